"""How sure a share is, how many calls prove one, and how many calls a site needs at once."""

from __future__ import annotations

import math
from dataclasses import dataclass

Z95 = 1.959963984540054
"""Two-sided 95 % point of the normal distribution."""


@dataclass(frozen=True)
class Share:
    """``good`` of ``calls`` with the 95 % Wilson interval, all in percent."""

    good: int
    calls: int
    pct: float | None
    low_pct: float
    high_pct: float


def wilson(good: int, calls: int) -> Share:
    """The share and its 95 % interval (Wilson 1927, score interval without continuity correction)."""
    if not 0 <= good <= calls:
        raise ValueError(f"{good} good of {calls} calls cannot be.")
    if calls == 0:
        return Share(0, 0, None, 0.0, 100.0)
    p, z2 = good / calls, Z95 * Z95
    centre = (p + z2 / (2 * calls)) / (1 + z2 / calls)
    half = Z95 / (1 + z2 / calls) * math.sqrt(p * (1 - p) / calls + z2 / (4 * calls * calls))
    low = 0.0 if good == 0 else max(0.0, centre - half)
    high = 1.0 if good == calls else min(1.0, centre + half)
    return Share(good, calls, 100 * p, 100 * low, 100 * high)


def calls_to_claim(required_pct: float) -> int:
    """Calls without one bad among them before "at least ``required_pct``" can be claimed at 95 %."""
    if not 0 < required_pct < 100:
        raise ValueError("The required share lies between 0 and 100 %.")
    p = required_pct / 100
    return math.ceil(round(p * Z95 * Z95 / (1 - p), 9))


def erlang_b(erlangs: float, circuits: int) -> float:
    """Share of call attempts blocked when ``erlangs`` are offered to ``circuits`` (ITU-T E.501, recursion form)."""
    blocked = 1.0
    for n in range(1, circuits + 1):
        blocked = erlangs * blocked / (n + erlangs * blocked)
    return blocked


def concurrent_calls(erlangs: float, accepted_blocking: float) -> int:
    """Fewest circuits that block no more than ``accepted_blocking`` (0…1)."""
    if erlangs < 0 or not 0 < accepted_blocking < 1:
        raise ValueError("Traffic must not be negative; accepted blocking lies between 0 and 1.")
    blocked, n = 1.0, 0
    while blocked > accepted_blocking:
        n += 1
        blocked = erlangs * blocked / (n + erlangs * blocked)
    return n
