"""A watch by days: what each leg or place did in each ten minutes, for the day sheet; and parts of the day compared."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.causes import LegName
from tarnfell.core.days.depths import moments_mos
from tarnfell.core.days.legs import leg_stretches, told_apart
from tarnfell.core.days.local import day_and_minute, day_name
from tarnfell.core.days.parts import DayPart, Parts
from tarnfell.core.days.rounds import Floats, Ints
from tarnfell.core.legs import Role
from tarnfell.core.verdict.moments import CELLS_A_DAY
from tarnfell.store import cells as cell_store
from tarnfell.store import routines as routine_store
from tarnfell.store.cells import CELL_US
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.services import ServicesResult
from tarnfell.work.watch import cells
from tarnfell.work.watch.reading import WatchReading, calm_mos

DAY_US = 86_400_000_000
SENT, LOST, P50, P95 = (cells.FIGURES.index(name) for name in ("sent", "lost", "p50", "p95"))


LegMeasure = Literal["mos", "added", "loss"]
PlaceMeasure = Literal["delay", "jitter", "loss"]
ServiceMeasure = Literal["unanswered", "answer"]


@dataclass(frozen=True)
class SheetRow:
    """One leg, place, name or service on one local day, by ten-minute cells from midnight on; None where it was not
    measured."""

    leg: LegName | None
    """None of anything else."""
    name: str
    """Empty of a leg."""
    values: list[float | None]


@dataclass(frozen=True)
class WatchDay:
    day: str
    at_us: list[int | None]
    """When each cell that was measured began."""
    rows: list[SheetRow]
    """Legs from the inside out; trouble of which the leg is not known comes last."""


@dataclass(frozen=True)
class PlaceParts:
    """One place by parts of the day."""

    role: Role
    name: str
    parts: list[DayPart]


@dataclass(frozen=True)
class TenMinutes:
    """What a watch has of each ten minutes in which it sampled, in the order of time."""

    start_us: Ints
    figures: Ints
    """Shape (stretches, places, figures of work/watch/cells.py)."""


def newest(db: sqlite3.Connection, watch_id: int, reading: WatchReading, days: int, zone: ZoneInfo) -> TenMinutes:
    """Of the ``days`` local days up to the last sample's."""
    starts, tens = cell_store.tens_between(db, watch_id, reading.until_us - days * DAY_US, reading.until_us + 1)
    start, table = np.array(starts, np.int64), cells.tens_table(tens, len(reading.places))
    day, _ = day_and_minute(start, zone)
    own = day > day.max(initial=0) - days
    return TenMinutes(start[own], table[own])


def compared(found: TenMinutes, reading: WatchReading, zone: ZoneInfo) -> list[PlaceParts]:
    """All places."""
    told, parts = [], Parts(found.start_us, zone)
    for number, place in enumerate(reading.places):
        figures = found.figures[:, number]
        p50, p95 = cells.rtt_ms(figures[:, P50]), cells.rtt_ms(figures[:, P95])
        told.append(PlaceParts(place.role, place.name, parts.of(figures[:, SENT], figures[:, LOST], p50, p95)))
    return told


def days_of(
    db: sqlite3.Connection, found: TenMinutes, site: Site, reading: WatchReading, days: int, shown: Shown
) -> list[WatchDay]:
    """At most ``days`` days, oldest first; of the hour that comes twice the worse is told."""
    if not len(found.start_us):
        return []
    rows = shown.rows(reading, found.figures, found.start_us, calm_mos(db, site, reading))
    return _days(found.start_us, rows, ZoneInfo(site.time_zone), days, shown.worse)


def services_days(
    db: sqlite3.Connection, probe_id: int, site: Site, until_us: int, days: int, measure: ServiceMeasure
) -> list[WatchDay]:
    """Names and services as they were asked beside a watch: the share that did not answer, or how long an answer took;
    each the worst of its ten minutes."""
    told = routine_store.services_between(db, probe_id, until_us - days * DAY_US, until_us + 1)
    if not told:
        return []
    start = np.unique([one.at_us // CELL_US * CELL_US for one in told])
    heard: dict[str, list[list[float | None]]] = {}
    for round_ in told:
        cell = int(np.searchsorted(start, round_.at_us // CELL_US * CELL_US))
        for name, took_ms in _answers(round_.told):
            heard.setdefault(name, [[] for _ in start])[cell].append(took_ms)
    rows = [(None, name, np.array([_service(asks, measure) for asks in cells_])) for name, cells_ in heard.items()]
    return _days(start, rows, ZoneInfo(site.time_zone), days, np.fmax)


def _answers(told: ServicesResult) -> Iterator[tuple[str, float | None]]:
    """What was asked, and how long its answer took, ms; None where it was not the right one, or none."""
    for one in told.services:
        yield one.asked.name, one.took_ms if one.state == "open" else None
    for name in told.names:
        yield f"{name.name} by {name.resolver}", name.took_ms if name.rcode == 0 else None


def _service(asks: Sequence[float | None], measure: ServiceMeasure) -> float:
    """NaN where it was not asked, or gave no answer that could be timed."""
    answered = [took_ms for took_ms in asks if took_ms is not None]
    if measure == "answer":
        return max(answered, default=np.nan)
    return 100 * (len(asks) - len(answered)) / len(asks) if asks else np.nan


_Rows = Sequence[tuple[LegName | None, str, Floats]]


def _days(start: Ints, rows: _Rows, zone: ZoneInfo, days: int, worse: np.ufunc) -> list[WatchDay]:
    """``worse`` takes the one that is to be told of two: fmin or fmax, which prefer a value to none."""
    day, minute = day_and_minute(start, zone)
    last = int(day.max())
    first = max(int(day.min()), last - days + 1)
    own = day >= first
    cells_ = (day[own] - first) * CELLS_A_DAY + minute[own] // 10
    count = last - first + 1
    began = np.full(count * CELLS_A_DAY, None)
    began[cells_] = start[own].astype(object)
    told = []
    for leg, name, values in rows:
        found = np.full(len(began), np.nan)
        worse.at(found, cells_, values[own])
        known = np.round(found, 2).astype(object)
        known[np.isnan(found)] = None
        told.append([SheetRow(leg, name, row) for row in known.reshape(count, CELLS_A_DAY).tolist()])
    began_by_day = began.reshape(count, CELLS_A_DAY).tolist()
    return [
        WatchDay(day_name(first + number), began_by_day[number], [row[number] for row in told])
        for number in range(count)
    ]


@dataclass(frozen=True)
class LegsShown:
    """What each leg did."""

    measure: LegMeasure

    @property
    def worse(self) -> np.ufunc:
        return np.fmin if self.measure == "mos" else np.fmax

    def rows(self, reading: WatchReading, table: Ints, start: Ints, calm: float) -> _Rows:
        if self.measure == "mos":
            return self._calls(reading, start, calm)
        sent, lost = table[:, :, SENT].T, table[:, :, LOST].T
        level = np.array([_levels(place.levels, start) for place in reading.places])
        legs = leg_stretches(
            [place.role for place in reading.places], sent, lost, cells.rtt_ms(table[:, :, P95].T) - level
        )
        return [(one.leg, "", one.added_ms if self.measure == "added" else one.loss_pct) for one in legs]

    def _calls(self, reading: WatchReading, start: Ints, calm: float) -> _Rows:
        """By the episodes of each leg."""
        legs = told_apart([place.role for place in reading.places if place.sent > place.lost])
        others = {one.leg for one in reading.episodes if one.leg not in legs and one.until_us > start[0]}
        return [
            (leg, "", moments_mos(start, CELL_US, [one for one in reading.episodes if one.leg == leg], calm))
            for leg in (*legs, *sorted(others))
        ]


@dataclass(frozen=True)
class PlaceShown:
    """What one place answered, by its number."""

    number: int
    measure: PlaceMeasure
    worse = np.fmax

    def rows(self, reading: WatchReading, table: Ints, start: Ints, calm: float) -> _Rows:
        own = table[:, self.number]
        middle, high = cells.rtt_ms(own[:, P50]), cells.rtt_ms(own[:, P95])
        asked = own[:, SENT] > 0
        loss = np.where(asked, 100 * own[:, LOST] / np.maximum(own[:, SENT], 1), np.nan)
        return [
            (
                None,
                reading.places[self.number].name,
                {"delay": middle, "jitter": high - middle, "loss": loss}[self.measure],
            )
        ]


Shown = LegsShown | PlaceShown


def _levels(levels: tuple[tuple[int, float], ...], at_us: Ints) -> Floats:
    """What a place answers in while nothing is in the way, at each time; NaN for one that never answered."""
    if not levels:
        return np.full(len(at_us), np.nan)
    since = np.array([since for since, _ in levels])
    place = np.maximum(0, np.searchsorted(since, at_us, side="right") - 1)
    return np.array([level for _, level in levels])[place]
