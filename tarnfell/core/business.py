"""When a site does business: minutes of its own day, on days of its own week."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

DAYS, HOURS = range(1, 8), range(24)
"""ISO weekdays, Monday 1."""


@dataclass(frozen=True)
class BusinessHours:
    """Hours that pass midnight belong to the day they begin on."""

    open_days: str
    """ISO weekdays as digits."""
    open_minute: int
    close_minute: int

    def is_open(self, weekday: int, minute: float) -> bool:
        today = str(weekday) in self.open_days
        if self.open_minute < self.close_minute:
            return today and self.open_minute <= minute < self.close_minute
        yesterday = str((weekday - 2) % 7 + 1) in self.open_days
        return (today and minute >= self.open_minute) or (yesterday and minute < self.close_minute)

    def hours(self) -> frozenset[tuple[int, int]]:
        """ISO weekday and hour of each hour of the week that has business in it."""
        return _hours(self)[0]

    def whole_hours(self) -> frozenset[tuple[int, int]]:
        """Of business from the first minute to the last."""
        return _hours(self)[1]


@lru_cache(256)
def _hours(business: BusinessHours) -> tuple[frozenset[tuple[int, int]], frozenset[tuple[int, int]]]:
    """With some business, and with nothing else."""
    opens = {
        (weekday, hour): sum(business.is_open(weekday, 60 * hour + minute) for minute in range(60))
        for weekday in DAYS
        for hour in HOURS
    }
    return frozenset(at for at, minutes in opens.items() if minutes), frozenset(
        at for at, minutes in opens.items() if minutes == 60
    )
