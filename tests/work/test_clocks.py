"""One clock relation per pair of ends: whose queue it was is told by the runs around."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tarnfell.clerk.loop import judge_stale
from tarnfell.core.codecs import find_codec
from tarnfell.store import calls as call_store
from tarnfell.store import clocks as clock_store
from tarnfell.store import jobs, runs
from tarnfell.store.db import open_database, writing
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.uploads import judge_upload
from tests.server.conftest import set_up

pytestmark = pytest.mark.usefixtures("told_as_before")

MINUTE_US = 60_000_000
START = 1_790_000_000_000_000
FAR_AHEAD_US = 3_000_000
CODEC = find_codec("g711a")


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    made = open_database(tmp_path)
    set_up(made, "192.0.2.1", 4870, "key")
    return made


def upload(start_us: int, up_us: int, down_us: int, stamps: bool) -> bytes:
    """One call of twelve seconds over a way that is 10 ms long each way, plus what is asked for."""
    sent = [start_us + i * 20_000 for i in range(600)]
    far = [at + FAR_AHEAD_US for at in sent]
    about = {"ssrc": 1, "dscp_sent": 46}
    columns = {
        "up.sent_us": sent,
        "up.arrival_seq": list(range(600)),
        "up.arrival_us": [at + up_us for at in far],
        "down.sent_us": far,
        "down.arrival_seq": list(range(600)),
        "down.arrival_us": [at + down_us for at in sent],
    }
    call = Record.of({"call": 1, "start_us": start_us, "bound": True, "up": about, "down": about}, columns)
    head = Record({"shared": False})
    if stamps:
        t1 = [at * 1000 for at in sent]
        t2 = [at * 1000 + (FAR_AHEAD_US + up_us) * 1000 for at in sent]
        t4 = [at * 1000 + (up_us + down_us) * 1000 for at in sent]
        head = Record.of({"shared": False}, {"t1_ns": t1, "t2_ns": t2, "t3_ns": t2, "t4_ns": t4})
    return join_parts([head.serialize(), call.serialize()])


def hold(db: sqlite3.Connection, minute: int, up_us: int = 10_000, down_us: int = 10_000, stamps: bool = True) -> int:
    at = START + minute * MINUTE_US
    with writing(db):
        run = runs.add_run(
            db,
            runs.RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=1, seconds=12, dscp=46),
            "",
            at,
        )
        jobs.move(db, run.id, "taken", "", at)
        jobs.move(db, run.id, "running", "", at)
        run = runs.run_by_id(db, run.id)
        judged = judge_upload(run, upload(at, up_us, down_us, stamps), CODEC, clock_store.runs_of_pair(db, run))
        call_store.take_in(db, run, judged, at + 15_000_000)
    return run.id


def delays(db: sqlite3.Connection, run_id: int) -> dict[str, float]:
    rows = db.execute(
        "SELECT d.direction, d.delay_min_ms FROM direction d JOIN call c ON c.id = d.call_id WHERE c.run_id = ?",
        (run_id,),
    )
    return {row[0]: pytest.approx(row[1], abs=0.2) for row in rows}


@pytest.mark.parametrize("stamps", [True, False])
def test_a_queue_that_stood_through_a_whole_run_is_told_by_the_runs_around_it(
    db: sqlite3.Connection, stamps: bool
) -> None:
    """With answered time stamps and, where there are none, by the media alone."""
    hold(db, 0, stamps=stamps)
    hold(db, 20, stamps=stamps)
    queued = hold(db, 40, up_us=210_000, stamps=stamps)
    # By itself: half of 220 ms each way.
    assert delays(db, queued) == {"up": 110, "down": 110}
    calm = hold(db, 60, stamps=stamps)
    assert db.execute("SELECT id FROM run WHERE stale = 1").fetchall()[0][0] == queued
    judge_stale(db, for_s=60)
    assert delays(db, queued) == {"up": 210, "down": 10}
    assert delays(db, calm) == {"up": 10, "down": 10}
    assert db.execute("SELECT count(*) FROM run WHERE stale = 1").fetchone()[0] == 0
    relation = clock_store.relation_of_run(db, queued)
    assert relation is not None
    # Twelve seconds of a skew nobody could measure are in it.
    assert relation.uncertainty_ms == pytest.approx(10 + 1.2, abs=0.1)
    # A call's own page is of the same relation, not of the run's packets alone.
    (call,) = call_store.calls_of_run(db, queued)
    assert relation_of(call) == relation
    db.execute("UPDATE run SET clock_relation = NULL")
    (waiting,) = call_store.calls_of_run(db, queued)
    assert relation_of(waiting).uncertainty_ms == pytest.approx(110 + 1.2, abs=0.2)


def test_a_run_after_three_calm_ones_is_right_at_once(db: sqlite3.Connection) -> None:
    for minute in (0, 20, 40):
        hold(db, minute)
    assert delays(db, hold(db, 60, down_us=310_000)) == {"up": 10, "down": 310}
    assert db.execute("SELECT count(*) FROM run WHERE stale = 1").fetchone()[0] == 0


def test_runs_of_another_day_or_another_pair_say_nothing(db: sqlite3.Connection) -> None:
    for minute in (0, 20, 40):
        hold(db, minute)
    assert delays(db, hold(db, 40 + 24 * 60 + 1, down_us=310_000)) == {"up": 160, "down": 160}
    db.execute("UPDATE run SET tainted = 1")
    assert delays(db, hold(db, 50, down_us=310_000)) == {"up": 160, "down": 160}


def test_settled_runs_are_not_judged_again_for_ever(db: sqlite3.Connection) -> None:
    """A line that is never calm again after its first hour: later runs find nothing left to put right."""
    for minute in (0, 20, 40):
        hold(db, minute)
    early = hold(db, 50, up_us=210_000)
    for minute in range(60, 200, 20):
        hold(db, minute)
        judge_stale(db, for_s=60)
    db.execute("UPDATE run SET judged_us = 0")
    hold(db, 220)
    judge_stale(db, for_s=60)
    assert db.execute("SELECT judged_us FROM run WHERE id = ?", (early,)).fetchone()[0] == 0
