"""The demo's week: its truth comes out of the packets, and is the same each time."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest

from tarnfell.core.verdict.readings import read
from tarnfell.core.verdict.site import Evaluation
from tarnfell.demo.history import make_history
from tarnfell.demo.run import DemoError, prepare
from tarnfell.demo.simulate import Stream, Way, move_packets
from tarnfell.store import alerts as alert_store
from tarnfell.store import sites as site_store
from tarnfell.store.calls import call_by_id
from tarnfell.store.db import connect
from tarnfell.work.evidence.evaluations import evaluate_now
from tarnfell.work.evidence.facts import facts_of

END = datetime(2026, 3, 30, 9, 40, tzinfo=UTC)
"""A Monday after the clocks went forward, so that one day of the week has 23 hours."""


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("demo")
    make_history(made, END)
    return made


@pytest.fixture(scope="module")
def sites(folder: Path) -> dict[str, Evaluation]:
    db = connect(folder)
    return {site.slug: evaluate_now(db, site) for site in site_store.sites_of(db, 1)}


def test_head_office_is_ready_but_for_the_full_line(sites: dict[str, Evaluation]) -> None:
    verdict = sites["harbour-house"].verdict
    assert verdict.word == "ready with conditions"
    assert [r.key for r in verdict.requirements if r.state != "shown"] == ["load"]
    assert verdict.capacity.sustained == 12
    assert sites["harbour-house"].causes == []


def test_depot_is_swamped_by_its_own_uploads(folder: Path, sites: dict[str, Evaluation]) -> None:
    depot = sites["skerry-road"]
    assert depot.verdict.word == "not ready"
    assert (depot.causes[0].key, depot.causes[0].leg) == ("uplink-queue", "unknown")
    assert {c.direction for c in depot.causes} == {"up"}
    assert "Coastline Cable" in depot.causes[0].who
    assert depot.legs is not None
    up, down = depot.legs
    assert up.added_p95_ms is not None
    assert down.added_p95_ms is not None
    assert up.added_p95_ms > 200 > 20 > down.added_p95_ms
    db = connect(folder)
    site = next(s for s in site_store.sites_of(db, 1) if s.slug == "skerry-road")
    bad = [r for r in read(facts_of(db, site).calls, site.brief) if not r.good]
    assert sum(r.fact.busy for r in bad) > 0.7 * len(bad)


def test_bench_has_no_evidence_yet(sites: dict[str, Evaluation]) -> None:
    assert sites["bench"].verdict.word == "not shown yet"


def test_the_week_is_whole_and_local(sites: dict[str, Evaluation]) -> None:
    days = sites["harbour-house"].sheet
    assert [d.day for d in days] == [f"2026-03-{n}" for n in range(24, 31)]
    spring = next(d for d in days if d.day == "2026-03-29")
    assert [n for n, mos in enumerate(spring.up.mos) if mos is None] == [6, 7, 8, 9, 10, 11]
    assert days[-1].up.mos[-1] is None


def test_raw_packets_are_kept_small(folder: Path) -> None:
    db = connect(folder)
    size, packets = db.execute("SELECT sum(length(record)), (SELECT sum(sent) FROM direction) FROM call").fetchone()
    assert size / packets < 6
    one = call_by_id(db, db.execute("SELECT min(id) FROM call").fetchone()[0])
    assert one.record.columns["up.sent_us"].count == 600


def test_same_seed_same_packets(tmp_path: Path) -> None:
    for name in ("first", "second"):
        make_history(tmp_path / name, END, days=1)
    for table in ("call", "video_stream"):
        first, second = (
            connect(tmp_path / name).execute(f"SELECT record FROM {table} ORDER BY id").fetchall()
            for name in ("first", "second")
        )
        assert [r[0] for r in first] == [r[0] for r in second]
        assert len(first) > 5


def test_rules_for_alerts_told_of_the_depot_and_not_of_head_office(folder: Path) -> None:
    db = connect(folder)
    names = {site.id: site.slug for site in site_store.sites_of(db, 1)}
    kinds = {rule.id: rule.spec.rule.kind for rule in alert_store.rules_at_work(db, 1)}
    told = alert_store.newest_alerts(db, 1, 1000)
    assert {names[one.site_id] for one in told} == {"skerry-road"}
    days = {
        kind: {one.began_us // 86_400_000_000 for one in told if kinds[one.rule_id] == kind} for kind in kinds.values()
    }
    # Uploads swamp the line on every working day; that is normal there, so nothing is slower than normal.
    assert len(days["loss"]) >= 5
    assert len(days["calls-below"]) >= 5
    assert days["above-normal"] == set()


def test_a_folder_with_other_data_is_left_alone(folder: Path) -> None:
    with pytest.raises(DemoError, match="not the demo's"):
        prepare(folder)


def test_a_full_link_delays_by_its_queue_and_then_drops() -> None:
    way = Way(rate_kbps=1000, queue_ms=100, base_ms=10, jitter_ms=0.01, loss_pct=0, burst_rate=1.5, burst_on_s=1e6)
    calls = [(Stream.even(500, 20), 1)]
    (moved,) = move_packets(way, np.zeros(1, np.int64), calls, np.array([0.6]), 80, np.random.default_rng(1))
    delay = (moved.recv_us - moved.sent_us)[0] / 1000
    assert delay.max() == pytest.approx(110, abs=3)
    assert 0.2 < 1 - moved.arrived.mean() < 0.5
    assert (np.diff(moved.recv_us[0]) >= 0).all()
