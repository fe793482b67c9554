"""The minute bench: all places of a watch on one time axis, with the calls of that time beneath."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.days.rounds import Floats, Ints
from tarnfell.core.legs import Role
from tarnfell.store import calls as call_store
from tarnfell.store import cells as cell_store
from tarnfell.store.calls import CallThen
from tarnfell.work.watch import cells
from tarnfell.work.watch.reading import named

Step = Literal["round", "minute", "ten minutes", "hour"]
ROUNDS_US, MINUTES_US, TENS_US = 20 * 60 * 1_000_000, 26 * 3_600 * 1_000_000, 15 * 86_400 * 1_000_000
"""Longest span that is told round by round, minute by minute, and by ten minutes: a picture has a thousand columns."""
LONGEST_US = 92 * 86_400 * 1_000_000
MOST_CALLS = 400
"""Drawn beneath the places."""


@dataclass(frozen=True)
class Lane:
    """One place. All lists are as long as the bench's ``at_us``; delays are None where nothing was answered."""

    role: Role
    name: str
    sent: list[int]
    lost: list[int]
    min_ms: list[float | None]
    p50_ms: list[float | None]
    max_ms: list[float | None]


@dataclass(frozen=True)
class BenchCall(CallThen):
    among: int = 1
    """How many calls of about that time it stands for, of which it is the worst."""


@dataclass(frozen=True)
class MinuteBench:
    from_us: int
    until_us: int
    step: Step
    at_us: list[int]
    """Beginning of each step; those without samples are not there."""
    lanes: list[Lane]
    beside_us: list[tuple[int, int]]
    """Times in which load of our own was on the line; known round by round."""
    calls: list[BenchCall]


def bench_of(db: sqlite3.Connection, watch_id: int, site_id: int, from_us: int, until_us: int) -> MinuteBench:
    """As fine as the span allows, and samples that were not let go of. Raises ValueError for a span that is none, or
    too long."""
    span = until_us - from_us
    if not 0 < span <= LONGEST_US:
        raise ValueError("Choose a span of up to 92 days that ends after it begins.")
    places = cell_store.places_of(db, watch_id)
    if span <= ROUNDS_US and from_us >= cell_store.let_go_until(db, watch_id):
        step: Step = "round"
        at, table, beside = _rounds(db, watch_id, from_us, until_us, len(places))
    elif span <= MINUTES_US:
        step, beside = "minute", []
        at, table = _minutes(db, watch_id, from_us, until_us, len(places))
    else:
        step, beside = "ten minutes", []
        starts, tens = cell_store.tens_between(db, watch_id, from_us, until_us)
        at, table = np.array(starts, np.int64), cells.tens_table(tens, len(places))
        if span > TENS_US:
            step = "hour"
            at, table = cells.by_hour(at, table)
    lanes = [
        _lane(place.role, place.name, table[:, number]) for number, place in enumerate(named(db, places)) if len(table)
    ]
    calls = _drawn(db, site_id, from_us, until_us)
    return MinuteBench(from_us, until_us, step, at.tolist(), lanes, beside, calls)


def _drawn(db: sqlite3.Connection, site_id: int, from_us: int, until_us: int) -> list[BenchCall]:
    """All of them, or the worst of each slice of the time where they are more than can be told apart."""
    worst = call_store.worst_between(db, site_id, from_us, until_us, MOST_CALLS)
    if sum(among for _, among in worst) <= MOST_CALLS:
        return [BenchCall(**vars(one)) for one in call_store.calls_between(db, site_id, from_us, until_us)]
    return [BenchCall(**vars(one), among=among) for one, among in worst]


def _rounds(
    db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int, places: int
) -> tuple[Ints, Ints, list[tuple[int, int]]]:
    parts = [cells.unpacked(cell) for cell in cell_store.cells_between(db, watch_id, from_us, until_us)]
    if not parts:
        return np.empty(0, np.int64), np.empty((0, places, len(cells.FIGURES)), np.int64), []
    at = np.concatenate([part.at_ms for part in parts]) * 1000
    codes = np.zeros((places, len(at)), np.int64)
    done = 0
    for part in parts:
        codes[: len(part.codes), done : done + len(part.at_ms)] = part.codes
        done += len(part.at_ms)
    loaded = np.concatenate([part.beside for part in parts]) > 0
    own = (at >= from_us) & (at < until_us)
    at, codes, loaded = at[own], codes[:, own], loaded[own]
    lost, answered = codes == cells.LOST, codes >= cells.FIRST
    delay = np.where(answered, codes, 0)
    table = np.stack([lost + answered, lost.astype(np.int64), delay, delay, delay, delay], axis=2)
    return at, table.transpose(1, 0, 2), _spans(at, loaded)


def _spans(at: Ints, loaded: np.ndarray) -> list[tuple[int, int]]:
    edges = np.diff(np.concatenate([[0], loaded.astype(np.int64), [0]]))
    begins, ends = np.nonzero(edges == 1)[0], np.nonzero(edges == -1)[0]
    return [(int(at[begin]), int(at[end - 1])) for begin, end in zip(begins, ends, strict=True)]


def _minutes(db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int, places: int) -> tuple[Ints, Ints]:
    found = cell_store.cells_between(db, watch_id, from_us, until_us)
    table = cells.minutes_table(found, places)
    if not found:
        return np.empty(0, np.int64), np.empty((0, places, len(cells.FIGURES)), np.int64)
    start = np.array([cell.start_us for cell in found], np.int64)
    at = (start[:, None] + np.arange(cells.MINUTES) * 60_000_000).ravel()
    rows = table.transpose(0, 2, 1, 3).reshape(len(at), places, len(cells.FIGURES))
    own = (at >= from_us) & (at < until_us) & (rows[:, :, 0].sum(axis=1) > 0)
    return at[own], rows[own]


def _lane(role: Role, name: str, figures: Ints) -> Lane:
    sent, lost, least, middle, _, most = figures.T
    return Lane(role, name, sent.tolist(), lost.tolist(), _delays(least), _delays(middle), _delays(most))


def _delays(codes: Ints) -> list[float | None]:
    told: Floats = np.round(cells.rtt_ms(codes), 2)
    return [None if value != value else value for value in told.tolist()]
