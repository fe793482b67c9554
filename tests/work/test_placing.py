"""The site's rules about calls: each code, at its edge, and in which order they are told."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import call_rate, hold
from tarnfell.store import places, plans, probes, runs, sites
from tarnfell.store.db import now_us, open_database
from tarnfell.store.runs import RunSpec
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.placing import presence
from tarnfell.work.placing.carry_out import GRACE_US, carry_out
from tarnfell.work.placing.rules import PASSES, about_presence, against, ceiling_calls
from tests.conftest import ONLINE_WITHIN_US
from tests.server.conftest import set_up

NOON = datetime(2026, 3, 4, 12, tzinfo=UTC)  # a Wednesday
SPEC = RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=60, dscp=46)


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    """The site's probe is enrolled and online, its line 1 Mbit/s each way, its days in UTC."""
    made = open_database(tmp_path)
    _, code = set_up(made, "192.0.2.1", 4870, "key")
    probes.enrol(made, code, Surroundings())
    made.execute("UPDATE site SET up_kbps = 1000, down_kbps = 1000, ceiling_pct = NULL, time_zone = 'UTC'")
    return made


def code(db: sqlite3.Connection, spec: RunSpec = SPEC, at: datetime = NOON, probe_id: int = 1) -> str | None:
    probe = probes.probe_by_id(db, probe_id) if probe_id else None
    reason = against(db, sites.site_by_id(db, 1), probe, places.far_end_by_id(db, spec.far_end_id), spec, at)
    return reason.code if reason else None


def test_nothing_stands_against_calls_at_a_site_that_is_ready(db: sqlite3.Connection) -> None:
    assert code(db) is None


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ("UPDATE site SET archived_us = 1", "archived"),
        ("UPDATE probe SET enrolled_us = NULL", "no-probe"),
        ("UPDATE probe SET retired_us = 1", "no-probe"),
        ("UPDATE far_end SET archived_us = 1", "no-far-end"),
        ("DELETE FROM site_far_end", "no-far-end"),
        ("UPDATE far_end SET kind = 'probe', probe_id = 1", "itself"),
        ("UPDATE probe SET last_contact_us = NULL", "offline"),
    ],
)
def test_what_must_be_there(db: sqlite3.Connection, change: str, expected: str) -> None:
    db.execute(change)
    assert code(db) == expected


def test_a_probe_of_another_site_is_none(db: sqlite3.Connection) -> None:
    assert code(db, probe_id=0) == "no-probe"
    probe, far_end = probes.probe_by_id(db, 1), places.far_end_by_id(db, 1)
    reason = against(db, sites.site_by_id(db, 1), replace(probe, site_id=2), far_end, SPEC, NOON)
    assert reason is not None
    assert reason.code == "no-probe"


def test_online_is_contact_within_fifteen_seconds(db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    probe = replace(probes.probe_by_id(db, 1), last_contact_us=100_000_000)
    monkeypatch.setattr(presence, "ONLINE_WITHIN_US", ONLINE_WITHIN_US)
    for now, online in ((114_999_999, True), (115_000_000, False)):
        monkeypatch.setattr(presence, "now_us", lambda now=now: now)
        assert (about_presence(probe) is None) == online


def test_the_ceiling_holds_as_many_calls_as_fit_in_its_share(db: sqlite3.Connection) -> None:
    """Of 1 Mbit/s, 30 % holds three calls by G.711 and not four; the slower direction in which media flows counts."""
    site = replace(sites.site_by_id(db, 1), ceiling_pct=30.0)
    rate = call_rate(find_codec("g711a"), 20, site.link)
    assert ceiling_calls(site, rate) == int(300 // rate.line_kbps) == 3
    assert ceiling_calls(site, rate, video_kbps=rate.line_kbps) == 2
    assert ceiling_calls(site, rate, video_kbps=301.0) == -1
    assert ceiling_calls(replace(site, up_kbps=500), rate) == 1
    assert ceiling_calls(replace(site, up_kbps=500), rate, "down") == 3
    assert ceiling_calls(replace(site, ceiling_pct=None), rate) is None
    db.execute("UPDATE site SET ceiling_pct = 30")
    assert code(db, replace(SPEC, calls=3)) is None
    assert code(db, replace(SPEC, calls=4)) == "ceiling"


def test_hours_without_load_hold_from_their_first_instant_to_their_last(db: sqlite3.Connection) -> None:
    """A call of a minute may end as they begin; hours past midnight belong to the day they begin on."""
    quiet = sites.Blackout("3", 12 * 60, 13 * 60, "stocktaking")
    sites.change_site(db, 1, blackouts=(quiet,))
    assert code(db, at=NOON - timedelta(seconds=60)) is None
    assert code(db, at=NOON - timedelta(seconds=59)) == "hours"
    assert code(db, at=NOON + timedelta(minutes=59, seconds=59)) == "hours"
    assert code(db, at=NOON + timedelta(hours=1)) is None
    sites.change_site(db, 1, blackouts=(replace(quiet, from_minute=23 * 60, to_minute=60),))
    midnight = NOON + timedelta(hours=12)
    assert [code(db, at=midnight + timedelta(minutes=m)) for m in (-61, -1, 59, 60)] == [None, "hours", "hours", None]


def test_one_run_at_a_time_and_what_lasts_is_told_first(db: sqlite3.Connection) -> None:
    runs.add_run(db, SPEC, "")
    assert code(db) == "busy"
    db.execute("UPDATE probe SET last_contact_us = NULL")
    assert code(db) == "offline"
    db.execute("UPDATE site SET ceiling_pct = 1")
    assert code(db) == "ceiling"
    assert {"busy", "offline"} == PASSES


@pytest.mark.parametrize(
    ("change", "ends_at_once", "words"),
    [
        ("UPDATE site SET ceiling_pct = 1", True, "beyond this site's ceiling"),
        ("DELETE FROM site_far_end", True, "no longer chosen"),
        ("UPDATE site SET archived_us = 1", True, "archived"),
        ("UPDATE probe SET last_contact_us = NULL", False, "was offline"),
    ],
)
def test_a_plan_waits_only_for_what_passes(db: sqlite3.Connection, change: str, ends_at_once: bool, words: str) -> None:
    """What changed since the plan was made is asked again when its step is due."""
    at = now_us()
    plans.add_plan(
        db, site_id=1, made_by=None, name="noon", probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, dscp=46,
        shape=hold(2, 60), direction="both", video=(), form={}, state="scheduled", start_us=at, rule=None, next_us=at,
    )  # fmt: skip
    db.execute(change)
    carry_out(db, at)
    series = plans.series_by_id(db, 1)
    assert series.state == ("missed" if ends_at_once else "waiting")
    carry_out(db, at + GRACE_US)
    assert plans.series_by_id(db, 1).state == ("missed" if ends_at_once else "waiting")
    carry_out(db, at + GRACE_US + 1)
    ended = plans.series_by_id(db, 1)
    assert ended.state == "missed"
    assert words in ended.words
    assert runs.runs_of_series(db, 1) == []
