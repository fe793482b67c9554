"""The day sheet: a site's local days in ten-minute cells, the worst call of each cell."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, timedelta

from tarnfell.core.verdict.moments import CELLS_A_DAY
from tarnfell.core.verdict.readings import Reading

CELLS = CELLS_A_DAY
DAYS = 7


def _empty() -> list[float | None]:
    return [None] * CELLS


@dataclass
class Side:
    """One direction of one day; None where nothing was measured."""

    mos: list[float | None] = field(default_factory=_empty)
    added_ms: list[float | None] = field(default_factory=_empty)
    loss_pct: list[float | None] = field(default_factory=_empty)


@dataclass
class Day:
    """One local day, 00:00 first. ``call_id`` is the call that shows in each cell."""

    day: str
    up: Side = field(default_factory=Side)
    down: Side = field(default_factory=Side)
    call_id: list[int | None] = field(default_factory=lambda: [None] * CELLS)

    def worst_mos(self, first: int, last: int) -> float | None:
        """Of the cells from ``first`` up to but without ``last``, both directions."""
        seen = [m for m in [*self.up.mos[first:last], *self.down.mos[first:last]] if m is not None]
        return min(seen, default=None)


def day_sheet(readings: list[Reading], days: int = DAYS) -> list[Day]:
    """The newest ``days`` days up to the last with evidence; empty without evidence."""
    last = max((day for r in readings for day, _ in r.fact.moments), default=None)
    if last is None:
        return []
    first = date.fromisoformat(last) - timedelta(days=days - 1)
    sheet = {day: Day(day) for i in range(days) for day in [(first + timedelta(days=i)).isoformat()]}
    for reading in readings:
        for day, cell in reading.fact.moments:
            if day in sheet:
                _enter(sheet[day], cell, reading)
    return list(sheet.values())


def _enter(day: Day, cell: int, reading: Reading) -> None:
    fact, this = reading.fact, reading.mos
    side, other = (day.up, day.down) if fact.direction == "up" else (day.down, day.up)
    before = side.mos[cell]
    if before is not None and this >= before:
        return
    side.mos[cell], side.added_ms[cell], side.loss_pct[cell] = this, reading.added_ms, fact.loss_pct
    opposite = other.mos[cell]
    if day.call_id[cell] is None or opposite is None or this <= opposite:
        # A call that could not be placed has no page of its own.
        day.call_id[cell] = fact.call_id if fact.call_id > 0 else None
