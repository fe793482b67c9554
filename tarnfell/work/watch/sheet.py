"""A watch by days: what each leg added in each ten minutes, for the day sheet; and parts of the day compared."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.causes import LegName
from tarnfell.core.days.legs import leg_stretches
from tarnfell.core.days.local import day_and_minute, day_name
from tarnfell.core.days.parts import DayPart, parts_of
from tarnfell.core.days.rounds import Floats, Ints
from tarnfell.core.legs import Role
from tarnfell.core.verdict.moments import CELLS_A_DAY
from tarnfell.store import cells as cell_store
from tarnfell.work.watch import cells
from tarnfell.work.watch.reading import WatchReading

DAY_US = 86_400_000_000
SENT, LOST, P50, P95 = (cells.FIGURES.index(name) for name in ("sent", "lost", "p50", "p95"))


@dataclass(frozen=True)
class LegDay:
    """One leg on one local day, by ten-minute cells from midnight on; None where it was not measured."""

    leg: LegName
    added_ms: list[float | None]
    loss_pct: list[float | None]


@dataclass(frozen=True)
class WatchDay:
    day: str
    at_us: list[int | None]
    """When each cell that was measured began."""
    legs: list[LegDay]
    """From the inside out."""


@dataclass(frozen=True)
class PlaceParts:
    """One place by parts of the day."""

    role: Role
    name: str
    parts: list[DayPart]


def compared(
    db: sqlite3.Connection, watch_id: int, reading: WatchReading, zone: ZoneInfo, days: int
) -> list[PlaceParts]:
    """All places over the newest ``days`` days up to the last sample."""
    found = cell_store.tens_between(db, watch_id, reading.until_us - days * DAY_US, reading.until_us + 1)
    table = cells.tens_table([one.tens for one in found], len(reading.places))
    start = np.array([one.start_us for one in found], np.int64)
    told = []
    for number, place in enumerate(reading.places):
        figures = table[:, number]
        p50, p95 = cells.rtt_ms(figures[:, P50]), cells.rtt_ms(figures[:, P95])
        told.append(
            PlaceParts(place.role, place.name, parts_of(start, figures[:, SENT], figures[:, LOST], p50, p95, zone))
        )
    return told


def days_of(db: sqlite3.Connection, watch_id: int, reading: WatchReading, zone: ZoneInfo, days: int) -> list[WatchDay]:
    """The newest ``days`` days up to the last sample, oldest first; of the hour that comes twice the worse is told."""
    found = cell_store.tens_between(db, watch_id, reading.until_us - days * DAY_US, reading.until_us + 1)
    if not found:
        return []
    table = cells.tens_table([one.tens for one in found], len(reading.places))
    start = np.array([one.start_us for one in found], np.int64)
    sent, lost = table[:, :, SENT].T, table[:, :, LOST].T
    level = np.array([_levels(place.levels, start) for place in reading.places])
    added = cells.rtt_ms(table[:, :, P95].T) - level
    legs = leg_stretches([place.role for place in reading.places], sent, lost, added)
    day, minute = day_and_minute(start, zone)
    last = int(day.max())
    told = []
    for number in range(max(int(day.min()), last - days + 1), last + 1):
        own = day == number
        at = minute[own] // 10
        began: list[int | None] = [None] * CELLS_A_DAY
        for cell, at_us in zip(at.tolist(), start[own].tolist(), strict=True):
            began[cell] = at_us
        told.append(
            WatchDay(
                day_name(number),
                began,
                [LegDay(one.leg, _row(one.added_ms[own], at), _row(one.loss_pct[own], at)) for one in legs],
            )
        )
    return told


def _levels(levels: tuple[tuple[int, float], ...], at_us: Ints) -> Floats:
    """What a place answers in while nothing is in the way, at each time; NaN for one that never answered."""
    if not levels:
        return np.full(len(at_us), np.nan)
    since = np.array([since for since, _ in levels])
    place = np.maximum(0, np.searchsorted(since, at_us, side="right") - 1)
    return np.array([level for _, level in levels])[place]


def _row(values: Floats, at: Ints) -> list[float | None]:
    row: list[float | None] = [None] * CELLS_A_DAY
    for value, cell in zip(values.tolist(), at.tolist(), strict=True):
        if value == value:
            row[cell] = round(max(value, row[cell] or 0.0), 2)
    return row
