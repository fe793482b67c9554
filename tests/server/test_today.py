"""The start page: what needs a look, what runs, what comes next, and what has changed since the last visit."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

import pytest

from tarnfell.core.alerts.rules import Rule
from tarnfell.core.imported import Choices
from tarnfell.store import alerts as alert_store
from tarnfell.store import imports as import_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import today as today_store
from tarnfell.store import watches as watch_store
from tarnfell.store.alerts import RuleSpec
from tarnfell.store.db import connect, now_us
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.reading import read_next
from tests.core.days.weeks import Week
from tests.server.conftest import SITE, House
from tests.work.watched import batches_of

MINUTE = 60_000_000


@pytest.fixture
def db(house: House) -> Iterator[sqlite3.Connection]:
    found = connect(house.folder)
    yield found
    found.close()


def today(house: House) -> dict[str, Any]:
    answer = house.person.get("/api/today")
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


def told(items: list[dict[str, Any]]) -> list[tuple[str, str, str]]:
    return [(one["site_slug"], one["says"], one["path"]) for one in items]


def test_what_needs_a_look_is_told_with_its_screen(house: House, db: sqlite3.Connection) -> None:
    assert today(house)["trouble"] == []
    rule = alert_store.add_rule(db, 1, RuleSpec(Rule("missed"), None, False, False, False), None)
    alert_store.add_alert(db, rule, 1, "x", now_us() - MINUTE, None, "It loses.")
    alert_store.add_alert(db, rule, 1, "y", now_us() - MINUTE, now_us(), "It lost.")
    watch_store.want(db, 1, 1, 1000, 46, None)
    db.execute("UPDATE watch SET told_version = 1, trouble = 'the clock.'")
    assert told(today(house)["trouble"]) == [
        ("pier", "It loses.", "/engagements/customer/alerts"),
        ("pier", "Watch of pier-probe: Something is in the way: the clock.", "/sites/pier/watch"),
    ]
    silent_us = now_us() - 120 * MINUTE
    db.execute("UPDATE probe SET last_contact_us = ?", (silent_us,))
    found = today(house)["trouble"]
    # A probe that is offline brings no samples: that is said once.
    assert told(found)[1:] == [("pier", "Probe pier-probe is offline.", "/sites/pier/place")]
    assert found[1]["at_us"] == silent_us
    probe_store.retire(db, 1)
    assert len(today(house)["trouble"]) == 1


def test_what_runs_and_what_comes_next(house: House, db: sqlite3.Connection) -> None:
    assert house.place().status_code == 200
    job_store.ask(db, 1, 1, "check", None, {"far_end_id": 1})
    running = told(today(house)["running"])
    assert ("pier", "Place calls, pier-probe, not begun yet", "/runs/1") in running
    assert any(
        one[1].startswith("Check the site’s network, pier-probe") and one[2] == "/sites/pier/check" for one in running
    )
    later, sooner = now_us() + 7200_000_000, now_us() + 3600_000_000
    for name, state, at in (("Evening", "scheduled", later), ("Noon", "scheduled", sooner), ("Old", "ended", sooner)):
        db.execute(
            "INSERT INTO plan (site_id, name, probe_id, far_end_id, codec, ptime_ms, dscp, shape, direction, video, "
            "form, state, next_us, created_us) VALUES (1, ?, 1, 1, 'g711a', 20, 46, ?, 'both', '[]', '{}', ?, ?, 0)",
            (name, '{"steps": [1], "call_s": 10, "rounds": 1}', state, at),
        )
    coming = today(house)["coming"]
    assert [(one["says"], one["at_us"], one["path"]) for one in coming] == [
        ("Planned load “Noon”", sooner, "/sites/pier/load"),
        ("Planned load “Evening”", later, "/sites/pier/load"),
    ]


def test_what_has_changed_since_the_visit_before(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert today_store.PAUSE_US == 30 * MINUTE
    now = now_us()
    monkeypatch.setattr(today_store, "now_us", lambda: now)
    first = today(house)
    assert (first["since_us"], first["changed"]) == (None, [])
    came = now
    now += today_store.PAUSE_US
    assert today(house)["since_us"] is None  # the same visit goes on
    for kind, state, count in (("check", "done", 2), ("check", "failed", 1), ("look", "done", 1)):
        for _ in range(count):
            job = job_store.add(db, 1, 1, kind, "", None, {}, at_us=now)  # type: ignore[arg-type]
            for next_state in ("taken", state):
                job_store.move(db, job, next_state, "", now + MINUTE)  # type: ignore[arg-type]
    rule = alert_store.add_rule(db, 1, RuleSpec(Rule("missed"), None, False, False, False), None)
    monkeypatch.setattr(alert_store, "now_us", lambda: now + MINUTE)
    alert_store.add_alert(db, rule, 1, "x", now, None, "")
    alert_store.add_alert(db, rule, 1, "x", now + 1, now + 2, "")
    last = now
    now += today_store.PAUSE_US + 1
    page = today(house)
    assert page["since_us"] == last > came
    assert [(one["site_slug"], one["says"]) for one in page["changed"]] == [
        ("pier", "2 checks; 1 check failed; 1 look; 2 alerts, 1 over")
    ]
    now += MINUTE
    assert today(house)["since_us"] == last


@pytest.mark.parametrize(("count", "says"), [(1, "1 alert; 1 imported file"), (2, "2 alerts; 2 imported files")])
def test_one_and_several_are_told_as_such(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch, count: int, says: str
) -> None:
    now = now_us()
    monkeypatch.setattr(today_store, "now_us", lambda: now)
    today(house)
    now += today_store.PAUSE_US + 1
    rule = alert_store.add_rule(db, 1, RuleSpec(Rule("missed"), None, False, False, False), None)
    for number in range(count):
        alert_store.add_alert(db, rule, 1, "x", now + number, None, "")
        import_store.keep_unread(db, 1, "log", "echo log", str(number), Choices(), None)
    assert [one["says"] for one in today(house)["changed"]] == [says]


def test_sites_and_engagements_that_are_archived_are_not_there(house: House, db: sqlite3.Connection) -> None:
    db.execute("UPDATE probe SET last_contact_us = 1")
    assert len(today(house)["trouble"]) == 1
    db.execute("UPDATE site SET archived_us = 1")
    page = today(house)
    assert (page["trouble"], page["engagements"][0]["shown"], page["engagements"][0]["sites"]) == ([], [], 0)
    db.execute("UPDATE site SET archived_us = NULL")
    db.execute("UPDATE engagement SET archived_us = 1")
    page = today(house)
    assert (page["trouble"], page["engagements"], page["archived"]) == (
        [],
        [],
        [{"slug": "customer", "name": "Customer"}],
    )


def test_an_engagement_shows_its_worst_sites_and_says_how_many_there_are(house: House, db: sqlite3.Connection) -> None:
    other = add_engagement(db, "other", "Other")
    for number in range(15):
        site_store.add_site(db, other, **SITE | {"slug": f"s{number}", "name": f"Site {number}"})
    assert len(today(house)["engagements"]) == 1  # the other is somebody else's
    adopt(db, 1)
    first, second = today(house)["engagements"]
    assert (first["sites"], [one["slug"] for one in first["shown"]]) == (1, ["pier"])
    assert (second["sites"], len(second["shown"])) == (15, 12)
    assert (first["shown"][0]["probes"], first["shown"][0]["online"], first["shown"][0]["hours_of"]) == (1, 1, None)


def test_the_week_of_a_site_that_is_watched(house: House, db: sqlite3.Connection) -> None:
    watch_store.want(db, 1, 1, 1000, 46, None)
    week = Week(3, days=1)
    rounds = week.rounds()
    hour_us = 3_600_000_000
    rounds.at_us[:] += (now_us() // hour_us - 24) * hour_us - rounds.at_us[0]
    bad = rounds.at_us // hour_us == rounds.at_us[0] // hour_us + 5
    rounds.rtt_ms[1:, bad] = float("nan")  # the line is down for an hour
    watch_store.keep(db, batches_of(rounds, each=600))
    while pack_next(db, now_us() + hour_us):
        pass
    assert read_next(db, now_us() + hour_us)
    page = today(house)
    (site,) = page["engagements"][0]["shown"]
    assert site["hours_of"] == "watch"
    assert page["until_us"] - page["from_us"] == 7 * 24 * hour_us
    hours = {(one["at_us"] - int(rounds.at_us[0])) // hour_us: one["mos"] for one in site["hours"]}
    assert set(hours) == set(range(24))
    assert hours[5] == 1.0
    assert all(4.0 < mos < 4.5 for hour, mos in hours.items() if hour not in (4, 5, 6))
    assert datetime.fromtimestamp(site["hours"][0]["at_us"] / 1e6, UTC).minute == 0
