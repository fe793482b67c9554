"""What is asked all the time costs no more when there is a past: counted in steps of the database, not in seconds."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from tarnfell.store import browsers, calls, evaluations, jobs, probes, runs, today
from tarnfell.store import db as database
from tarnfell.store.db import open_database
from tests.server.conftest import set_up
from tests.store.past import add_run

DAY_US = 86_400_000_000
NOW_US = 1_790_000_000_000_000
RECOUNT = (
    "SELECT site_id, sum(calls), count(judged_us), sum(state = 'failed') FROM run_job "
    "WHERE state IN ('done', 'failed') GROUP BY site_id ORDER BY site_id"
)


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    made = open_database(tmp_path)
    set_up(made, "192.0.2.1", 4870, "key")
    made.execute("INSERT INTO user (email, name, password_hash, created_us) VALUES ('a@a.example', 'A', 'x', 1)")
    made.execute("INSERT INTO member (engagement_id, user_id, role, since_us) VALUES (1, 1, 'consultant', 1)")
    return made


def with_a_past(db: sqlite3.Connection, ended: int) -> None:
    """So many runs of the days before, the newest of them a month ago, and one that is open."""
    with database.writing(db):
        for i in range(ended):
            add_run(db, "done", NOW_US - 30 * DAY_US - (ended - i) * 60_000_000, judged_us=5)
        add_run(db, "taken", NOW_US)


OFTEN: dict[str, Callable[[sqlite3.Connection], object]] = {
    "the clerk, for silent probes": jobs.silent_jobs,
    "the clerk, for sites to evaluate": lambda db: evaluations.much_evidence(db, 1),
    "the clerk, for alerts": lambda db: calls.tests_since(db, 1, NOW_US - DAY_US, 8),
    "a heartbeat, for what waits": lambda db: jobs.waiting_for(db, 1),
    "a heartbeat, for what is out": lambda db: jobs.out_with(db, 1),
    "the start page, for what runs": lambda db: today.open_jobs(db, 1, 12),
    "the start page, for what ended": lambda db: today.ended_since(db, 1, NOW_US - DAY_US),
    "each page of a site, for its evidence": lambda db: evaluations.evidence_of(db, 1),
    "each page of a site, for its open runs": lambda db: runs.open_runs(db, 1),
    "the load, for open fills": lambda db: jobs.open_of_kind(db, 1, "fill"),
    "the site, for calls of browsers": lambda db: browsers.not_counted(db, 1),
}


@pytest.mark.parametrize("who", OFTEN)
def test_what_is_asked_all_the_time_takes_no_longer_with_a_past(db: sqlite3.Connection, who: str) -> None:
    def steps() -> int:
        taken = 0

        def count() -> int:
            nonlocal taken
            taken += 1
            return 0

        db.set_progress_handler(count, 1)
        OFTEN[who](db)
        db.set_progress_handler(None, 0)
        return taken

    with_a_past(db, 20)
    few = steps()
    with_a_past(db, 300)
    assert steps() < few + 100


def tally(db: sqlite3.Connection) -> list[tuple[int, ...]]:
    return [tuple(row) for row in db.execute("SELECT site_id, calls, judged, failed FROM run_tally ORDER BY site_id")]


def changes(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT coalesce(sum(changes), 0) FROM run_tally").fetchone()[0])


def test_the_tally_is_what_counting_finds_at_every_step_of_a_runs_life(db: sqlite3.Connection) -> None:
    def after(what: str, *values: object, changed: bool) -> None:
        before = changes(db)
        db.execute(what, values)
        # One that only waits is not counted, and its zeros are not in the way.
        assert [one for one in tally(db) if any(one[1:])] == [tuple(row) for row in db.execute(RECOUNT)], what
        assert (changes(db) > before) is changed, what

    first = add_run(db, "waiting", NOW_US, number=3)
    assert tally(db) == []
    after("UPDATE job SET state = 'taken' WHERE id = ?", first, changed=True)
    after("UPDATE job SET begun_us = 7 WHERE id = ?", first, changed=False)
    after("UPDATE run SET judged_us = 8 WHERE id = ?", first, changed=False)
    after("UPDATE job SET state = 'done' WHERE id = ?", first, changed=True)
    assert tally(db) == [(1, 3, 1, 0)]
    after("UPDATE run SET judged_us = 9 WHERE id = ?", first, changed=True)
    after("UPDATE run SET judged_us = 9, note = 'x' WHERE id = ?", first, changed=False)
    second = add_run(db, "waiting", NOW_US, number=4)
    after("UPDATE job SET state = 'failed' WHERE id = ?", second, changed=True)
    assert tally(db) == [(1, 7, 1, 1)]
    after("UPDATE job SET state = 'done' WHERE id = ?", second, changed=True)
    assert tally(db) == [(1, 7, 1, 0)]
    after("UPDATE run SET judged_us = 10 WHERE id = ?", second, changed=True)
    after("UPDATE run SET calls = 5 WHERE id = ?", second, changed=True)
    add_run(db, "failed", NOW_US, number=1, judged_us=3)
    assert tally(db) == [(1, 9, 3, 1)] == [tuple(row) for row in db.execute(RECOUNT)]


def test_runs_of_before_the_tally_are_counted_in_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 50})
    db = open_database(tmp_path)
    set_up(db, "192.0.2.1", 4870, "key")
    for state, judged_us in (("done", 5), ("done", None), ("failed", None), ("waiting", None)):
        add_run(db, state, NOW_US, judged_us=judged_us)
    db.close()
    monkeypatch.undo()
    assert tally(open_database(tmp_path)) == [(1, 6, 1, 1)]


def test_a_run_that_is_judged_anew_makes_the_evidence_other_evidence(db: sqlite3.Connection) -> None:
    run = add_run(db, "done", NOW_US, judged_us=5)
    before = evaluations.evidence_of(db, 1)
    assert (before.calls, before.judged, before.failed) == (2, 1, 0)
    db.execute("UPDATE run SET judged_us = 6 WHERE id = ?", (run,))
    assert evaluations.evidence_of(db, 1) != before
    assert evaluations.much_evidence(db, 2) == []
    assert [one.site_id for one in evaluations.much_evidence(db, 1)] == [1]


def test_test_points_are_named_by_what_was_carried_out_from_them(db: sqlite3.Connection) -> None:
    db.executescript(
        "INSERT INTO test_point (id, site_id, name, kind, created_us) VALUES "
        "(2, 1, 'rack', 'cabinet', 5), (3, 1, 'x', 'desk', 5);"
        "INSERT INTO probe (id, site_id, test_point_id, name, created_us) VALUES (2, 1, 2, 'p', 5), (3, 1, 3, 'q', 5);"
    )
    for probe in (1, 2, 2):
        db.execute("UPDATE job SET probe_id = ? WHERE id = ?", (probe, add_run(db, "done", NOW_US)))
    db.execute("UPDATE job SET probe_id = 3 WHERE id = ?", (add_run(db, "failed", NOW_US),))
    assert probes.measured_test_points(db, 1) == ["rack", "desk"]
