"""Calls of a run held against a brief's bounds: which keep them, and for how long that is remembered."""

from __future__ import annotations

import sqlite3
from dataclasses import replace

import pytest

from tarnfell.store import calls as call_store
from tarnfell.store import runs, sites
from tarnfell.store.db import connect
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.judging.calls import calls_in_moments, good_calls, held_calls
from tarnfell.work.memory import Memory
from tests.server.conftest import House, _short_calls_count, house, record_file
from tests.server.test_runs import deliver, taken

__all__ = ["_short_calls_count", "house"]

CALLS = 4


@pytest.fixture
def db(house: House) -> sqlite3.Connection:
    return connect(house.folder)


@pytest.fixture
def run(house: House, db: sqlite3.Connection) -> Run:
    number = taken(house, calls=CALLS)
    deliver(house, number, record_file(calls=CALLS))
    return runs.run_by_id(db, number)


@pytest.fixture
def site(db: sqlite3.Connection) -> Site:
    return sites.site_by_id(db, 1)


def change(db: sqlite3.Connection, run: Run, number: int, values: str, direction: str = "up") -> None:
    """Another outcome of a call, as if it had been judged again."""
    db.execute(
        f"UPDATE direction SET {values} WHERE direction = ? AND call_id = (SELECT id FROM call WHERE number = ?)",
        (direction, number),
    )
    db.execute("UPDATE run SET judged_us = judged_us + 1 WHERE id = ?", (run.id,))


def test_a_call_is_good_where_both_ways_are_known_to_keep_every_bound(
    db: sqlite3.Connection, run: Run, site: Site
) -> None:
    assert good_calls(db, run, site.targets) == CALLS
    change(db, run, 1, "mos = 2.0")
    change(db, run, 2, "mouth_to_ear_ms = NULL", "down")
    change(db, run, 3, "mos = 2.0, mouth_to_ear_ms = NULL", "down")
    change(db, run, 3, "mouth_to_ear_ms = NULL", "up")
    assert [one.acceptable for one in held_calls(db, run, site.targets)] == [False, None, False, True]
    assert good_calls(db, run, site.targets) == 1
    # Of one that is not known nothing is counted.
    found = calls_in_moments(db, run, site)
    assert [good for _, good in found] == [False, False, True]
    assert len({moments for moments, _ in found}) == 1
    db.execute("UPDATE run SET cut_reason = 'x', judged_us = judged_us + 1")
    assert [one.acceptable for one in held_calls(db, run, site.targets)] == [False] * CALLS


def test_they_are_looked_up_once_for_each_judging_and_each_brief(
    db: sqlite3.Connection, run: Run, site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[int] = []
    look = call_store.bounded_of_run

    def looked(db: sqlite3.Connection, run_id: int) -> list[call_store.Bounded]:
        asked.append(run_id)
        return look(db, run_id)

    monkeypatch.setattr(call_store, "bounded_of_run", looked)
    strict = replace(site.targets, target_mos=4.4)
    for targets, good in ((site.targets, CALLS), (site.targets, CALLS), (strict, 0), (strict, 0)):
        assert good_calls(db, run, targets) == good
    assert asked == [run.id] * 2
    change(db, run, 1, "mos = 4.5")
    assert good_calls(db, run, replace(site.targets, target_mos=4.0)) == CALLS
    assert len(asked) == 3


def test_a_memory_has_room_for_so_much_and_knows_databases_apart(house: House, db: sqlite3.Connection) -> None:
    memory = Memory[str](10)
    for number, takes in ((1, 4), (2, 4), (1, 6)):
        memory.keep(db, number, "mark", str(number), takes)
    assert (memory.of(db, 1), memory.of(db, 2)) == (("mark", "1"), ("mark", "2"))
    assert memory.of(sqlite3_elsewhere(), 1) is None
    memory.keep(db, 3, "mark", "3", 1)
    assert memory.of(db, 3) == ("mark", "3")
    assert (memory.of(db, 1) is None) != (memory.of(db, 2) is None)
    memory.keep(db, 4, "mark", "4", 11)  # larger than all there is room for: it alone
    assert [memory.of(db, number) for number in (1, 2, 3)] == [None, None, None]
    assert memory.of(db, 4) == ("mark", "4")
    memory.forget()
    assert memory.of(db, 4) is None
    memory.keep(db, 1, "mark", "1", 10)
    memory.keep(db, 1, "another", "1", 10)
    assert memory.of(db, 1) == ("another", "1")


def sqlite3_elsewhere() -> sqlite3.Connection:
    other = sqlite3.connect(":memory:")
    other.row_factory = sqlite3.Row
    return other
