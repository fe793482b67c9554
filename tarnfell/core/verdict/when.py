"""When trouble came, in words: the stretch of the day that holds most of it, on how many days."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from tarnfell.core.verdict.readings import Reading

LISTED = 4
"""Up to this many times are told one by one."""
MOST = 0.9
ALL_DAY_HOURS = 18
"""A stretch this long says nothing of the time of day."""


def when(bad: Sequence[Reading]) -> str:
    """One sentence; a day is as the site counts it."""
    times = sorted({(r.fact.day, int(r.fact.minute)) for r in bad})
    if len(times) <= LISTED:
        return f"Seen {', '.join(map(_at, times))}."
    low, high = _tightest(Counter(minute // 60 for _, minute in times), MOST * len(times))
    inside = sum(low <= minute // 60 <= high for _, minute in times)
    days = len({day for day, _ in times})
    busy = len({r.fact.call_id for r in bad if r.fact.busy})
    calls = len({r.fact.call_id for r in bad})
    on = f"on {days} {'day' if days == 1 else 'days'}"
    if high - low + 1 < ALL_DAY_HOURS:
        told = f"{inside} of {len(times)} times between {low:02d}:00 and {(high + 1) % 24:02d}:00, {on}"
    else:
        told = f"{len(times)} times at all hours, {on} from {_at(times[0])} to {_at(times[-1])}"
    return f"{told}; {busy} of {calls} calls within business hours."


def _at(time: tuple[str, int]) -> str:
    return f"{time[0]} {time[1] // 60:02d}:{time[1] % 60:02d}"


def _tightest(hours: Counter[int], needed: float) -> tuple[int, int]:
    """First and last hour of the shortest stretch of the day that holds ``needed`` of the counts."""
    best = (0, 23)
    for low in range(24):
        total = 0
        for high in range(low, 24):
            total += hours[high]
            if total >= needed:
                if high - low < best[1] - best[0]:
                    best = (low, high)
                break
    return best
