"""Parts of the day compared, weekdays against weekends: how a place answered in them, and their worst moment."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.days.local import day_and_minute, weekday
from tarnfell.core.days.rounds import Flags, Floats, Ints
from tarnfell.core.quantiles import quantiles

Name = Literal["night", "morning", "noon", "afternoon", "evening"]
BEGINS: tuple[tuple[Name, int], ...] = (("night", 0), ("morning", 6), ("noon", 11), ("afternoon", 14), ("evening", 18))
"""Each with the hour of the site's clock at which it begins."""
SATURDAY = 5


@dataclass(frozen=True)
class DayPart:
    """One place in one part of weekdays, or of weekends. Delays are None where nothing was answered."""

    name: Name
    from_hour: int
    weekend: bool
    stretches: int
    """Of ten minutes with samples."""
    sent: int
    lost: int
    p50_ms: float | None
    """Median of the stretches' medians."""
    p95_ms: float | None
    """95th percentile of the stretches' 95th percentiles: one in twenty was worse."""
    worst_ms: float | None
    """The longest 95th percentile of a stretch, and when that was."""
    worst_us: int | None


class Parts:
    """Stretches of ten minutes, shape (stretches,), told apart by the part of the day that they lie in."""

    def __init__(self, start_us: Ints, zone: ZoneInfo) -> None:
        days, minutes = day_and_minute(start_us, zone)
        weekend = weekday(days) >= SATURDAY
        hours = [begin for _, begin in BEGINS]
        part = np.searchsorted(np.array(hours), minutes // 60, side="right") - 1
        self._start_us = start_us
        self._each: list[tuple[Name, int, bool, Flags]] = [
            (name, from_hour, of_weekend, (weekend == of_weekend) & (part == number))
            for of_weekend in (False, True)
            for number, (name, from_hour) in enumerate(BEGINS)
        ]

    def of(self, sent: Ints, lost: Ints, p50_ms: Floats, p95_ms: Floats) -> list[DayPart]:
        """Of one place, by what it answered in each stretch; those without samples in them are left out. All of shape
        (stretches,), delays NaN where nothing was answered."""
        told = []
        for name, from_hour, weekend, lies in self._each:
            own = lies & (sent > 0)
            if own.any():
                given = self._start_us[own], sent[own], lost[own], p50_ms[own], p95_ms[own]
                told.append(_part(name, from_hour, weekend, *given))
        return told


def _part(
    name: Name, from_hour: int, weekend: bool, start_us: Ints, sent: Ints, lost: Ints, p50_ms: Floats, p95_ms: Floats
) -> DayPart:
    answered = ~np.isnan(p50_ms)
    high = p95_ms[answered]
    worst = int(np.argmax(high)) if len(high) else None
    return DayPart(
        name=name,
        from_hour=from_hour,
        weekend=weekend,
        stretches=len(start_us),
        sent=int(sent.sum()),
        lost=int(lost.sum()),
        p50_ms=None if worst is None else round(quantiles(p50_ms[answered], [50])[0], 2),
        p95_ms=None if worst is None else round(quantiles(high, [95])[0], 2),
        worst_ms=None if worst is None else round(float(high[worst]), 2),
        worst_us=None if worst is None else int(start_us[answered][worst]),
    )
