"""The runs that would give a site the evidence that its brief asks and that is still short.

Runs are put on a grid of weekdays and hours, several to an hour where moments are what is short, on whole days, so that
every hour of the grid is seen as often as the others.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

Hour = tuple[int, int]
"""ISO weekday and hour of the day."""

_AN_HOUR = (1, 2, 3, 4, 6)
"""Runs that an hour holds at even steps, none two in one ten-minute moment."""
_FIRST_MINUTE = 5


@dataclass(frozen=True)
class Short:
    """What is missing of each; 0 where there is enough."""

    days: int
    hours: int
    """Busy hours, each of one day."""
    moments: int
    """Ten minutes of business hours with calls."""
    loaded: int = 0
    """Such moments with as many calls as are needed, for their number to be shown."""

    @property
    def nothing(self) -> bool:
        return self.days == self.hours == self.moments == self.loaded == 0


@dataclass(frozen=True)
class Closing:
    """One run at each minute of each hour on each weekday, for ``days`` such days."""

    weekdays: tuple[int, ...]
    hours: tuple[int, ...]
    minutes: tuple[int, ...]
    days: int

    @property
    def a_day(self) -> int:
        return len(self.hours) * len(self.minutes)

    @property
    def runs(self) -> int:
        return self.days * self.a_day

    @property
    def rule(self) -> str:
        """RFC 5545 §3.3.10."""
        names = [("MO", "TU", "WE", "TH", "FR", "SA", "SU")[day - 1] for day in self.weekdays]
        return (
            f"FREQ=WEEKLY;BYDAY={','.join(names)};BYHOUR={','.join(map(str, self.hours))};"
            f"BYMINUTE={','.join(map(str, self.minutes))};COUNT={self.runs}"
        )


def closing(short: Short, usable: Iterable[Hour], seen: Iterable[Hour]) -> Closing | None:
    """None where nothing is short and every usable hour was seen, or where no hour can be used.

    Each run holds the calls that are needed. ``usable`` are whole hours of business in which calls may be placed;
    ``seen`` those of the week that had calls.
    """
    weekdays, hours = _grid(set(usable))
    if not hours:
        return None
    if short.nothing:
        weekdays, hours = _grid(set(usable) - set(seen))
        return Closing(weekdays, hours, _minutes(1), len(weekdays)) if hours else None
    most_a_day = _AN_HOUR[-1] * len(hours)
    moments = max(short.moments, short.loaded)
    days = max(short.days, math.ceil(short.hours / len(hours)), math.ceil(moments / most_a_day))
    wanted = moments / (days * len(hours))
    return Closing(weekdays, hours, _minutes(next(n for n in _AN_HOUR if n >= wanted)), days)


def _minutes(an_hour: int) -> tuple[int, ...]:
    return tuple(range(_FIRST_MINUTE, 60, 60 // an_hour))


def _grid(hours: set[Hour]) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """The largest set of weekdays that all have the same hours, with these."""
    of_day: dict[int, frozenset[int]] = {}
    for weekday, hour in hours:
        of_day[weekday] = of_day.get(weekday, frozenset()) | {hour}
    grids = [
        (tuple(sorted(day for day, own in of_day.items() if own >= shared)), tuple(sorted(shared)))
        for shared in of_day.values()
    ]
    return max(grids, key=lambda grid: (len(grid[0]) * len(grid[1]), grid), default=((), ()))
