"""The demo's week: each site's truth comes out of its packets, and is the same each time."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

from tarnfell.core.check.judge import judge
from tarnfell.core.check.values import Judged
from tarnfell.core.verdict.readings import read
from tarnfell.core.verdict.site import Evaluation
from tarnfell.demo.history import make_history
from tarnfell.demo.run import DemoError, prepare
from tarnfell.demo.scenario import SITES
from tarnfell.demo.simulate import Stream, Way, move_packets
from tarnfell.store import alerts as alert_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.calls import call_by_id
from tarnfell.store.db import connect
from tarnfell.wire.kinds import fields
from tarnfell.wire.kinds.check import CheckResult
from tarnfell.work.evidence.evaluations import evaluate_now
from tarnfell.work.evidence.facts import facts_of
from tarnfell.work.watch.reading import WatchReading, kept_reading
from tests.demo_data import demo_data

SPRING = datetime(2026, 3, 30, 9, 40, tzinfo=UTC)
"""A Monday after the clocks went forward, so that one day before it has 23 hours."""
HEAD_OFFICE = SITES[:1]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("demo")
    demo_data(made)
    return made


@pytest.fixture(scope="module")
def sites(folder: Path) -> dict[str, Evaluation]:
    db = connect(folder)
    return {site.slug: evaluate_now(db, site) for site in site_store.sites_of(db, 1)}


def watched(folder: Path, slug: str) -> WatchReading:
    db = connect(folder)
    site = site_store.site_by_slug(db, slug)
    assert site is not None
    (probe,) = probe_store.probes_of(db, site.id)
    watch = watch_store.watch_of(db, probe.id)
    assert watch is not None
    reading = kept_reading(db, watch.id)
    assert reading is not None
    return reading


def checked(folder: Path, slug: str) -> Judged:
    db = connect(folder)
    site = site_store.site_by_slug(db, slug)
    assert site is not None
    (newest, *_) = job_store.newest_of_kind(db, site.id, "check", 1)
    assert newest.result is not None
    return judge(fields.read(CheckResult, newest.result))


def findings(reading: WatchReading) -> list[tuple[str, str]]:
    return [(one.key, one.leg) for one in reading.findings]


def test_head_office_is_ready(folder: Path, sites: dict[str, Evaluation]) -> None:
    verdict = sites["harbour-house"].verdict
    assert verdict.word == "ready"
    assert verdict.capacity.sustained == 12
    # Of hundreds of streams one may lose the very packets that a picture needed.
    assert all(one.calls_hit <= 0.01 * one.calls for one in sites["harbour-house"].causes)
    assert findings(watched(folder, "harbour-house")) == []
    assert {one.state for one in checked(folder, "harbour-house").rungs} == {"passed"}


def test_the_depot_is_swamped_by_its_own_uploads(folder: Path, sites: dict[str, Evaluation]) -> None:
    depot = sites["skerry-road"]
    assert depot.verdict.word == "not ready"
    assert (depot.causes[0].key, depot.causes[0].leg, depot.causes[0].direction) == ("uplink-queue", "line", "up")
    assert "Merrow IT" in depot.causes[0].who
    assert depot.legs is not None
    up, down = depot.legs
    assert up.added_p95_ms is not None
    assert down.added_p95_ms is not None
    assert up.added_p95_ms > 200 > 20 > down.added_p95_ms
    db = connect(folder)
    site = next(s for s in site_store.sites_of(db, 1) if s.slug == "skerry-road")
    bad = [r for r in read(facts_of(db, site).calls, site.brief) if not r.good]
    assert sum(r.fact.busy for r in bad) > 0.7 * len(bad)
    reading = watched(folder, "skerry-road")
    assert findings(reading) == [("uplink-queue", "line")]
    assert [one.key for one in reading.not_faults] == ["hop-slow"]


def test_rain_on_the_kiosks_radio_and_its_large_packets(folder: Path, sites: dict[str, Evaluation]) -> None:
    reading = watched(folder, "inner-holm")
    assert findings(reading) == [("line-loss", "line"), ("large-packets-lost", "line")]
    assert {one.kind for one in reading.episodes} == {"loss"}
    assert reading.recurrences == ()
    kiosk = sites["inner-holm"]
    assert kiosk.verdict.word == "not ready"
    assert {(one.key, one.leg) for one in kiosk.causes} == {("line-loss", "line"), ("large-packets-lost", "line")}
    assert {one.who for one in kiosk.causes} == {"Holm Radio Links (made up)"}


def test_lunch_at_the_booking_hall_is_inside_and_comes_back(folder: Path, sites: dict[str, Evaluation]) -> None:
    reading = watched(folder, "ferrygate")
    assert findings(reading) == [("inside-congested", "inside")]
    (again,) = reading.recurrences
    # Of a week that ends after noon both of its own weekday's lunches are in it.
    assert again.leg == "inside"
    assert again.days == again.of >= 5
    assert 700 <= again.from_minute <= 722
    told = checked(folder, "ferrygate")
    assert [(one.key, one.leg, one.direction) for one in told.causes] == [("marking-changed", "inside", "up")]
    hall = sites["ferrygate"]
    assert hall.verdict.word == "not ready"
    # One squeeze, though it queues both ways; and whoever runs the switch, for both.
    assert {(one.key, one.leg) for one in hall.causes} == {
        ("marking-changed", "inside"),
        ("inside-congested", "inside"),
    }
    assert {one.who for one in hall.causes} == {"Ferrygate Harbour Trust (made up)"}


def test_nights_of_the_call_centre_and_its_firewall(folder: Path, sites: dict[str, Evaluation]) -> None:
    reading = watched(folder, "saltmarsh")
    assert findings(reading) == [("line-down", "line")]
    (again,) = reading.recurrences
    # Its spells are of a night each; that of the last may lie before the week's beginning. By weekdays or all days.
    # A week that begins and ends at that hour of the night has eight of them.
    assert again.leg == "line"
    assert again.days >= 5
    assert again.of <= 8
    assert 66 <= again.from_minute < again.until_minute <= 80
    assert {one.key for one in checked(folder, "saltmarsh").causes} == {"port-blocked", "signalling-rewritten"}
    centre = sites["saltmarsh"]
    assert centre.verdict.word == "not ready"
    assert [one.key for one in centre.verdict.requirements if one.state == "shown not"] == ["reachability"]
    assert {(one.key, one.leg) for one in centre.causes} == {
        ("line-down", "line"), ("port-blocked", "unknown"), ("signalling-rewritten", "unknown"),
    }  # fmt: skip


def test_the_workshop_has_hardly_begun(folder: Path, sites: dict[str, Evaluation]) -> None:
    assert sites["slipway"].verdict.word == "not shown yet"
    assert all(place.forming for place in watched(folder, "slipway").places)


def test_the_bench_has_no_evidence_yet(sites: dict[str, Evaluation]) -> None:
    assert sites["bench"].verdict.word == "not shown yet"


def test_probes_are_told_as_last_online_when_the_week_ended(folder: Path) -> None:
    db = connect(folder)
    end_us = db.execute("SELECT max(last_contact_us) FROM probe").fetchone()[0]
    for site in site_store.sites_of(db, 1):
        for probe in probe_store.probes_of(db, site.id):
            assert (probe.last_contact_us == end_us) == (site.slug != "bench")


def test_days_are_whole_and_local(tmp_path: Path) -> None:
    make_history(tmp_path, SPRING, days=2, sites=HEAD_OFFICE)
    db = connect(tmp_path)
    site = site_store.site_by_slug(db, "harbour-house")
    assert site is not None
    days = evaluate_now(db, site).sheet
    spring = next(d for d in days if d.day == "2026-03-29")
    cells = spring.up.mos
    assert [hour for hour in range(24) if all(mos is None for mos in cells[6 * hour : 6 * hour + 6])] == [1]
    # A call every half hour at night; the whole hours of business are measured.
    assert sum(mos is not None for mos in cells[:6]) == 2
    assert all(mos is not None for mos in days[-1].up.mos[9 * 6 : 10 * 6])
    assert days[-1].up.mos[-1] is None


def test_raw_packets_are_kept_small(folder: Path) -> None:
    db = connect(folder)
    size, packets = db.execute("SELECT sum(length(record)), (SELECT sum(sent) FROM direction) FROM call").fetchone()
    assert size / packets < 6
    one = call_by_id(db, db.execute("SELECT min(id) FROM call").fetchone()[0])
    assert one.record.columns["up.sent_us"].count == 600


def test_same_seed_same_packets(tmp_path: Path) -> None:
    for name in ("first", "second"):
        make_history(tmp_path / name, SPRING, days=1, sites=HEAD_OFFICE)
    for table in ("call", "video_stream"):
        first, second = (
            connect(tmp_path / name).execute(f"SELECT record FROM {table} ORDER BY id").fetchall()
            for name in ("first", "second")
        )
        assert [r[0] for r in first] == [r[0] for r in second]
        assert len(first) > 5


def test_rules_for_alerts_told_of_trouble_and_not_of_head_office(folder: Path) -> None:
    db = connect(folder)
    names = {site.id: site.slug for site in site_store.sites_of(db, 1)}
    kinds = {rule.id: rule.spec.rule.kind for rule in alert_store.rules_at_work(db, 1)}
    told = alert_store.newest_alerts(db, 1, 1000)
    where = {kind: {names[one.site_id] for one in told if kinds[one.rule_id] == kind} for kind in kinds.values()}
    # The depot's queue drops now and then for as long as the rule asks, and not in every week.
    assert where["loss"] | {"skerry-road"} == {"skerry-road", "inner-holm", "ferrygate", "saltmarsh"}
    assert "skerry-road" in where["calls-below"]
    # Uploads swamp the depot's line on every working day; that is normal there.
    assert "skerry-road" not in where["above-normal"]
    depot = {
        one.began_us // 86_400_000_000
        for one in told
        if (names[one.site_id], kinds[one.rule_id]) == ("skerry-road", "calls-below")
    }
    assert len(depot) >= 5


def test_a_folder_with_other_data_is_left_alone(tmp_path: Path) -> None:
    make_history(tmp_path, SPRING, days=1, sites=SITES[-2:])
    with pytest.raises(DemoError, match="not the demo's"):
        prepare(tmp_path)


def test_a_full_link_delays_by_its_queue_and_then_drops() -> None:
    way = Way(rate_kbps=1000, queue_ms=100, base_ms=10, jitter_ms=0.01, loss_pct=0, burst_rate=1.5, burst_on_s=1e6)
    calls = [(Stream.even(500, 20), 1)]
    links = [(way, np.array([0.6]))]
    (moved,) = move_packets(links, np.zeros(1, np.int64), calls, 80, np.random.default_rng(1))
    delay = (moved.recv_us - moved.sent_us)[0] / 1000
    assert delay.max() == pytest.approx(110, abs=3)
    assert 0.2 < 1 - moved.arrived.mean() < 0.5
    assert (np.diff(moved.recv_us[0]) >= 0).all()
    (twice,) = move_packets(links * 2, np.zeros(1, np.int64), calls, 80, np.random.default_rng(1))
    assert (twice.recv_us - twice.sent_us).max() / 1000 == pytest.approx(220, abs=6)
