"""Which hours of the week a site's calls have seen, how often, and under how many calls at once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

from tarnfell.core.verdict.moments import Moment
from tarnfell.core.verdict.readings import CallReading

_CELLS_AN_HOUR = 6


@dataclass(frozen=True)
class CoveredHour:
    weekday: int
    """ISO, Monday 1."""
    hour: int
    """At the site."""
    days: int
    """On which calls were placed in it."""
    moments: int
    """Ten-minute moments with calls."""
    most: int
    """Concurrent calls, at most."""


def coverage_of(calls: Iterable[CallReading]) -> list[CoveredHour]:
    """In the order of the week; hours without a call are left out."""
    seen: dict[tuple[int, int], dict[Moment, int]] = {}
    for call in calls:
        for moment in call.moments:
            day, cell = moment
            hour = seen.setdefault((date.fromisoformat(day).isoweekday(), cell // _CELLS_AN_HOUR), {})
            hour[moment] = max(hour.get(moment, 0), call.concurrent)
    return [
        CoveredHour(weekday, hour, len({day for day, _ in moments}), len(moments), max(moments.values()))
        for (weekday, hour), moments in sorted(seen.items())
    ]
