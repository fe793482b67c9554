"""Calls beneath the minute bench and in episodes: none is left out, however many they are."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tarnfell.store.calls import calls_between, worst_between
from tarnfell.store.db import open_database, writing
from tarnfell.work.watch.bench import MOST_CALLS, bench_of
from tarnfell.work.watch.episode_calls import calls_during
from tests.server.conftest import set_up
from tests.store.past import add_run

pytestmark = pytest.mark.usefixtures("told_as_before")

AT_US = 1_790_000_000_000_000
S = 1_000_000


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    made = open_database(tmp_path)
    set_up(made, "192.0.2.1", 4870, "key")
    return made


@pytest.mark.parametrize(
    ("ways", "seen", "below"),
    [
        ({"up": 4.2, "down": 4.0}, (4.2, 4.0), 0),
        ({"up": 4.2, "down": 3.99}, (4.2, 3.99), 1),
        ({"up": 3.99, "down": 4.2}, (3.99, 4.2), 1),
        # A call that was placed one way has no other that could be bad; of one that heard nothing, it was.
        ({"up": 4.2}, (4.2, None), 0),
        ({"down": 4.2}, (None, 4.2), 0),
        ({"up": 4.2, "down": None}, (4.2, 1.0), 1),
    ],
)
def test_a_call_is_below_by_the_directions_that_it_was_placed_in(
    db: sqlite3.Connection,
    ways: dict[str, float | None],
    seen: tuple[float | None, float | None],
    below: int,
) -> None:
    add_run(db, "done", AT_US, number=1, ways=ways)
    (one,) = calls_between(db, 1, AT_US, AT_US + S)
    assert (one.up_mos, one.down_mos) == seen
    assert calls_during(db, 1, [(AT_US, AT_US + S)], 4.0) == [(1, below)]


def test_each_span_counts_the_calls_that_were_on_in_it(db: sqlite3.Connection) -> None:
    add_run(db, "done", AT_US, number=2)  # for 30 s
    add_run(db, "done", AT_US + 60 * S, number=3, ways={"up": 2.0, "down": 4.4})
    tainted = add_run(db, "done", AT_US, number=5)
    db.execute("UPDATE run SET tainted = 1 WHERE id = ?", (tainted,))
    spans = [
        (AT_US - 10 * S, AT_US),  # over as they begin
        (AT_US - 10 * S, AT_US + 1),
        (AT_US + 30 * S - 1, AT_US + 31 * S),
        (AT_US + 30 * S, AT_US + 60 * S),  # between the two
        (AT_US, AT_US + 61 * S),
    ]
    assert calls_during(db, 1, spans, 4.0) == [(0, 0), (2, 0), (2, 0), (0, 0), (5, 3)]
    assert calls_during(db, 1, [], 4.0) == []
    assert calls_during(db, 2, spans, 4.0) == [(0, 0)] * 5


def test_of_more_calls_than_can_be_drawn_the_worst_of_each_slice_stands_for_all(db: sqlite3.Connection) -> None:
    span_us = 2 * MOST_CALLS * 60 * S
    with writing(db):
        for i in range(2 * MOST_CALLS):
            worst = i in (7, 2 * MOST_CALLS - 1)
            add_run(db, "done", AT_US + i * 60 * S, number=1, ways={"up": 4.3, "down": 1.5 if worst else 4.2})
    drawn = bench_of(db, 1, 1, AT_US, AT_US + span_us).calls
    assert len(drawn) == MOST_CALLS
    assert sum(one.among for one in drawn) == 2 * MOST_CALLS
    assert [i for i, one in enumerate(drawn) if one.down_mos == 1.5] == [3, MOST_CALLS - 1]
    assert drawn[3].started_us == AT_US + 7 * 60 * S
    few = bench_of(db, 1, 1, AT_US, AT_US + MOST_CALLS * 60 * S).calls
    assert (len(few), {one.among for one in few}) == (MOST_CALLS, {1})


def test_a_call_that_was_on_before_counts_in_the_first_slice(db: sqlite3.Connection) -> None:
    add_run(db, "done", AT_US - 20 * S, number=1, ways={"up": 4.1, "down": 2.0})
    add_run(db, "done", AT_US + 9 * S, number=1)
    add_run(db, "done", AT_US + 10 * S, number=1, ways={"up": 3.0})
    found = worst_between(db, 1, AT_US, AT_US + 100 * S, 10)
    assert [(one.started_us - AT_US, one.worst_mos, among) for one, among in found] == [
        (-20 * S, 2.0, 2), (10 * S, 3.0, 1),
    ]  # fmt: skip
