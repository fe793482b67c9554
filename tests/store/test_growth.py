"""What is asked all the time costs no more when there is a past: counted in steps of the database, not in seconds."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable
from dataclasses import astuple, replace
from itertools import pairwise
from pathlib import Path

import pytest

from tarnfell.core.rates import MAX_CALL_S
from tarnfell.store import browsers, calls, cells, codecs, evidence, jobs, probes, runs, today, watches
from tarnfell.store import db as database
from tarnfell.store.cells import CELL_US, Cell
from tarnfell.store.db import open_database
from tarnfell.store.watches import Batch
from tests.server.conftest import set_up
from tests.store.past import BOTH, Ways, add_run, cell

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
    """So many runs and ten minutes of samples of the days before, the newest of them a month ago, and a run that is
    open."""
    with database.writing(db):
        watches.want(db, 1, 1, 1000, 46, None)
        newest_us = (NOW_US - 30 * DAY_US) // CELL_US * CELL_US
        cells.keep_packed(db, [cell(newest_us - i * CELL_US) for i in range(ended)], [])
        for i in range(ended):
            add_run(db, "done", NOW_US - 30 * DAY_US - (ended - i) * 60_000_000, judged_us=5)
        add_run(db, "taken", NOW_US)


OFTEN: dict[str, Callable[[sqlite3.Connection], object]] = {
    "the clerk, for silent probes": jobs.silent_jobs,
    "the clerk, for sites to evaluate": lambda db: evidence.much_evidence(db, 1),
    "the clerk, for alerts": lambda db: calls.tests_since(db, 1, NOW_US - DAY_US, 8),
    "a watch, for its samples": lambda db: watches.counts(db, 1),
    "a watch, for calls of some days": lambda db: calls.calls_between(db, 1, NOW_US - 7 * DAY_US, NOW_US),
    "a heartbeat, for what waits": lambda db: jobs.waiting_for(db, 1),
    "a heartbeat, for what is out": lambda db: jobs.out_with(db, 1),
    "the start page, for what runs": lambda db: today.open_jobs(db, 1, 12),
    "the start page, for what ended": lambda db: today.ended_since(db, 1, NOW_US - DAY_US),
    "each page of a site, for its evidence": lambda db: evidence.evidence_of(db, 1),
    "the values of codecs, for runs judged by them": lambda db: codecs.run_counts(db, 1),
    "a comparison of two runs, for how others differ": lambda db: calls.newest_directions(db, 1, "g711a", "up", 8),
    "each page of a site, for its open runs": lambda db: runs.open_runs(db, 1),
    "the load, for open fills": lambda db: jobs.open_of_kind(db, 1, "fill"),
    "the site, for calls of browsers": lambda db: browsers.not_counted(db, 1),
}


def steps_of(db: sqlite3.Connection, question: Callable[[sqlite3.Connection], object]) -> int:
    taken = 0

    def count() -> int:
        nonlocal taken
        taken += 1
        return 0

    db.set_progress_handler(count, 1)
    question(db)
    db.set_progress_handler(None, 0)
    return taken


@pytest.mark.parametrize("who", OFTEN)
def test_what_is_asked_all_the_time_takes_no_longer_with_a_past(db: sqlite3.Connection, who: str) -> None:
    with_a_past(db, 20)
    few = steps_of(db, OFTEN[who])
    with_a_past(db, 300)
    assert steps_of(db, OFTEN[who]) < few + 100


def first_page(db: sqlite3.Connection) -> list[int]:
    return [one.id for one in runs.placed_runs(db, 1, 12)]


def found_by_a_word(db: sqlite3.Connection) -> list[int]:
    return [one.id for one in runs.placed_runs(db, 1, 12, words="g711")]


@pytest.mark.parametrize("question", [first_page, found_by_a_word, lambda db: runs.count_placed(db, 1)])
def test_runs_that_were_asked_for_are_not_looked_for_among_all(
    db: sqlite3.Connection, question: Callable[[sqlite3.Connection], object]
) -> None:
    for at_us in (NOW_US, NOW_US + 2, NOW_US + 1):
        add_run(db, "done", at_us)
    before, few = question(db), steps_of(db, question)
    for i in range(300):
        add_run(db, "done", NOW_US + 10 * i, purpose="watch")
    assert question(db) == before
    assert steps_of(db, question) < few + 100


def test_a_further_page_of_runs_takes_no_sorting_of_those_before(db: sqlite3.Connection) -> None:
    made = [add_run(db, "done", NOW_US + at_us) for at_us in (5, 1, 4, 2, 3)]
    newest_first = [made[at] for at in (0, 2, 4, 3, 1)]
    assert [one.id for one in runs.placed_runs(db, 1, 3)] == newest_first[:3]
    assert [one.id for one in runs.placed_runs(db, 1, 3, 3)] == newest_first[3:]
    few = steps_of(db, first_page)
    for i in range(300):
        add_run(db, "done", NOW_US + 10 + i)
    assert steps_of(db, first_page) < 4 * few


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
    db = open_database(tmp_path)
    assert tally(db) == [(1, 6, 1, 1)]
    assert codecs.run_counts(db, 1) == {"g711a": (2, 0)}


def test_runs_are_counted_by_codec_as_they_end_and_as_they_wait_to_be_judged_again(db: sqlite3.Connection) -> None:
    assert codecs.run_counts(db, 1) == {}
    first, second = add_run(db, "done", NOW_US), add_run(db, "running", NOW_US)
    add_run(db, "failed", NOW_US)
    assert codecs.run_counts(db, 1) == {"g711a": (1, 0)}
    db.execute("UPDATE run SET stale = 1")
    assert codecs.run_counts(db, 1) == {"g711a": (1, 1)}
    db.execute("UPDATE job SET state = 'done' WHERE id = ?", (second,))
    assert codecs.run_counts(db, 1) == {"g711a": (2, 2)}
    db.execute("UPDATE run SET stale = 0 WHERE id = ?", (first,))
    db.execute("UPDATE run SET stale = 0 WHERE id = ?", (first,))
    assert codecs.run_counts(db, 1) == {"g711a": (2, 1)}
    assert codecs.run_counts(db, 2) == {}


def test_a_codec_that_changed_is_passed_on_to_what_it_judged(db: sqlite3.Connection) -> None:
    """Until then all of its runs are to be judged again."""
    done, other = add_run(db, "done", NOW_US), add_run(db, "done", NOW_US)
    add_run(db, "failed", NOW_US)
    db.execute("UPDATE run SET codec = 'opus-24' WHERE id = ?", (other,))
    db.execute("UPDATE codec_tally SET done = 1")
    db.execute("INSERT INTO codec_tally (site_id, codec, done, stale) VALUES (1, 'opus-24', 1, 0)")
    assert codecs.next_change(db) is None
    codecs.drop_values(db, 1, "g711a")
    codecs.drop_values(db, 1, "g711a")
    assert codecs.run_counts(db, 1) == {"g711a": (1, 1), "opus-24": (1, 0)}
    assert codecs.stale_runs(db, 9) == []
    assert codecs.next_change(db) == (1, "g711a")
    codecs.pass_on(db, (1, "g711a"))
    assert codecs.stale_runs(db, 9) == [done]
    assert codecs.run_counts(db, 1) == {"g711a": (1, 1), "opus-24": (1, 0)}
    assert codecs.next_change(db) is None
    db.execute("UPDATE run SET stale = 0")
    assert codecs.run_counts(db, 1) == {"g711a": (1, 0), "opus-24": (1, 0)}


def test_values_of_a_codec_are_changed_at_once_however_many_runs_it_judged(db: sqlite3.Connection) -> None:
    with_a_past(db, 20)
    few = steps_of(db, lambda db: codecs.drop_values(db, 1, "g711a"))
    with_a_past(db, 300)
    assert steps_of(db, lambda db: codecs.drop_values(db, 1, "g711a")) < few + 20


def test_a_run_that_is_judged_anew_makes_the_evidence_other_evidence(db: sqlite3.Connection) -> None:
    run = add_run(db, "done", NOW_US, judged_us=5)
    before = evidence.evidence_of(db, 1)
    assert (before.calls, before.judged, before.failed) == (2, 1, 0)
    db.execute("UPDATE run SET judged_us = 6 WHERE id = ?", (run,))
    assert evidence.evidence_of(db, 1) != before
    assert evidence.much_evidence(db, 2) == []
    assert [one.site_id for one in evidence.much_evidence(db, 1)] == [1]


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


# Samples


def counted(db: sqlite3.Connection) -> tuple[int | None, ...]:
    """By hand, one cell after the other."""
    rows = db.execute("SELECT * FROM sample_cell ORDER BY start_us").fetchall()
    without_us = sum(row["without_us"] for row in rows)
    for before, after in pairwise(rows):
        pause_us = after["first_us"] - before["last_us"]
        without_us += pause_us if pause_us > watches.LEAST_GAP_US else 0
    sums = (sum(row[name] for row in rows) for name in ("answered", "lost", "not_sent"))
    return (min(row["first_us"] for row in rows), max(row["last_us"] for row in rows), *sums, without_us)


@pytest.mark.parametrize("seed", range(8))
def test_samples_are_counted_as_they_come_in_whatever_their_order(db: sqlite3.Connection, seed: int) -> None:
    watches.want(db, 1, 1, 1000, 46, None)
    chance = random.Random(seed)
    have: dict[int, Cell] = {}
    for _ in range(60):
        start_us = chance.randrange(12) * CELL_US
        before = have.get(start_us)
        # What is there grows at both ends; pauses about as long as is still none, and longer.
        first_s = min(before.first_us - start_us if before else 10**9, chance.choice([0, 33, 200]) * 1_000_000) / 1e6
        last_s = max(before.last_us - start_us if before else 0, chance.choice([599, 568, 567, 300]) * 1_000_000) / 1e6
        have[start_us] = cell(start_us, first_s, last_s, chance.choice([0, 70]))
        more = replace(have[start_us], answered=chance.randrange(600), lost=chance.randrange(9))
        cells.keep_packed(db, [more], [])
        assert astuple(watches.counts(db, 1)) == counted(db)
    cells.let_go(db, 1, 5 * CELL_US, 3)
    assert astuple(watches.counts(db, 1)) == counted(db)


def test_a_pause_is_time_without_samples_once_it_is_longer_than_65_s(db: sqlite3.Connection) -> None:
    watches.want(db, 1, 1, 1000, 46, None)
    assert astuple(watches.counts(db, 1)) == (None, None, 0, 0, 0, 0)
    cells.keep_packed(db, [cell(0, 0, 567), cell(CELL_US, 32)], [])
    assert watches.counts(db, 1).without_us == 0
    cells.keep_packed(db, [cell(2 * CELL_US, 64.000001)], [])
    assert watches.counts(db, 1).without_us == 65_000_001
    # What waits to be packed goes on from there.
    newest_us = 3 * CELL_US - 1_000_000
    waiting = [
        Batch(1, newest_us + 65_000_000, newest_us + 70_000_000, 4, 2, 1, 10, b""),
        Batch(1, newest_us + 135_000_001, newest_us + 140_000_000, 4, 2, 1, 1, b""),
    ]
    watches.keep(db, waiting)
    assert astuple(watches.counts(db, 1)) == (
        0, newest_us + 140_000_000, 1500 + 44, 270 + 22, 27 + 11, 2 * 65_000_001,
    )  # fmt: skip
    # What comes late lies in time that was sampled, or in a pause that is shorter once it is packed.
    watches.keep(db, [Batch(1, CELL_US, CELL_US + 1, 1, 0, 0, 1, b"")])
    assert watches.counts(db, 1).without_us == 2 * 65_000_001


def test_nothing_but_what_waits_is_counted_as_well(db: sqlite3.Connection) -> None:
    watches.want(db, 1, 1, 1000, 46, None)
    watches.keep(db, [Batch(1, at_us, at_us + 9, 3, 2, 1, 2, b"") for at_us in (NOW_US, NOW_US + 100_000_009)])
    assert astuple(watches.counts(db, 1)) == (NOW_US, NOW_US + 100_000_018, 12, 8, 4, 100_000_000)


def test_calls_are_found_by_when_they_were_on(db: sqlite3.Connection) -> None:
    assert calls.LONGEST_US > MAX_CALL_S * 1_000_000
    run = add_run(db, "done", NOW_US, number=2, seconds=MAX_CALL_S, apart_us=3_600_000_000)
    end_us = NOW_US + MAX_CALL_S * 1_000_000

    def on(from_us: int, until_us: int) -> list[int]:
        return [one.started_us - NOW_US for one in calls.calls_between(db, 1, from_us, until_us)]

    assert on(end_us - 1, end_us + 1) == [0, 3_600_000_000]
    assert on(end_us, end_us + 1) == [3_600_000_000]
    assert on(end_us + 3_600_000_000, end_us + 4_000_000_000) == []
    assert on(NOW_US - 5, NOW_US) == []
    assert on(NOW_US - 5, NOW_US + 1) == [0]
    assert db.execute("SELECT started_us FROM job WHERE id = ?", (run,)).fetchone()[0] == NOW_US


CALL_MOS = "SELECT site_id, started_us, call_id, run_id, ends_us, up, down FROM call_mos ORDER BY call_id"
CALL_MOS_ANEW = (
    "SELECT job.site_id, c.started_us, c.id, r.id, CAST(c.started_us + 1000000 * r.seconds AS INTEGER), "
    "iif(u.call_id IS NULL, NULL, coalesce(u.mos, ?1)), iif(d.call_id IS NULL, NULL, coalesce(d.mos, ?1)) "
    "FROM call c JOIN run r ON r.id = c.run_id JOIN job ON job.id = r.id "
    "LEFT JOIN direction u ON u.call_id = c.id AND u.direction = 'up' "
    "LEFT JOIN direction d ON d.call_id = c.id AND d.direction = 'down' "
    "WHERE coalesce(u.call_id, d.call_id) IS NOT NULL ORDER BY c.id"
)


def mos_of_calls(db: sqlite3.Connection) -> list[tuple[object, ...]]:
    """As it is kept, having been found to be what the records of the calls say."""
    kept = [tuple(row) for row in db.execute(CALL_MOS)]
    assert kept == [tuple(row) for row in db.execute(CALL_MOS_ANEW, (calls.NOTHING_HEARD,))]
    return kept


def test_what_calls_came_to_is_kept_as_they_are_judged_and_judged_again(db: sqlite3.Connection) -> None:
    placed_in: tuple[Ways, ...] = (BOTH, {"up": 3.5}, {"down": None}, {"up": None, "down": 4.2}, {})
    for ways in placed_in:
        add_run(db, "done", NOW_US, number=2, ways=ways, seconds=2.5)
    kept = mos_of_calls(db)
    assert [row[4:] for row in kept[::2]] == [
        (NOW_US + 2_500_000, 4.0, 4.0), (NOW_US + 2_500_000, 3.5, None), (NOW_US + 2_500_000, None, 1.0),
        (NOW_US + 2_500_000, 1.0, 4.2),
    ]  # fmt: skip
    db.execute("UPDATE direction SET mos = 2.2 WHERE call_id = 1 AND direction = 'down'")
    db.execute("UPDATE direction SET mos = NULL WHERE call_id = 2")
    db.execute("UPDATE direction SET mos = 4.1 WHERE call_id = 5")
    assert [row[5:] for row in mos_of_calls(db) if row[2] in (1, 2, 5, 6)] == [
        (4.0, 2.2), (1.0, 1.0), (None, 4.1), (None, 1.0),
    ]  # fmt: skip


def test_the_worst_of_a_quarters_calls_are_told_without_looking_each_up(db: sqlite3.Connection) -> None:
    with database.writing(db):
        for i in range(300):
            add_run(db, "done", NOW_US + i * 60_000_000, number=4)
    worst = steps_of(db, lambda db: calls.worst_between(db, 1, NOW_US, NOW_US + 300 * 60_000_000, 10))
    assert worst < 60 * 1200, worst / 1200


def test_what_was_there_before_it_was_counted_is_counted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    steps = database._steps()
    monkeypatch.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 52})
    db = open_database(tmp_path)
    set_up(db, "192.0.2.1", 4870, "key")
    watches.want(db, 1, 1, 1000, 46, None)
    with monkeypatch.context() as then:
        then.setattr(cells, "_CELL", tuple(name for name in cells._CELL if name != "beside"))
        cells.keep_packed(db, [cell(0, 5, 300, 70), cell(CELL_US), cell(4 * CELL_US, 0, 9)], [])
    run = add_run(db, "done", NOW_US)
    db.execute("UPDATE call SET started_us = ? WHERE number = 1", (NOW_US - 7,))
    add_run(db, "done", NOW_US, purpose="watch", ways={"down": None})
    db.execute("UPDATE watch SET changes = 4")
    db.close()
    monkeypatch.undo()
    db = open_database(tmp_path)
    assert first_page(db) == [run]
    assert astuple(watches.counts(db, 1)) == counted(db)
    assert watches.counts(db, 1).without_us == (70 + 300 + 2 * 600 + 1) * 1_000_000
    assert db.execute("SELECT started_us FROM job WHERE id = ?", (run,)).fetchone()[0] == NOW_US - 7
    assert db.execute("SELECT changes FROM watch").fetchone()[0] == 5  # to be read once more
    assert [row[5:] for row in mos_of_calls(db)] == [(4.0, 4.0)] * 2 + [(None, 1.0)] * 2
