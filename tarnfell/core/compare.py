"""Two sets of calls side by side: what differs, and whether it is more than chance."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.stats import wilson


@dataclass(frozen=True)
class Difference:
    """Second minus first, with its 95 % interval; None where either side has too little to tell."""

    first: float | None
    second: float | None
    change: float | None
    low: float | None
    high: float | None

    @property
    def sure(self) -> bool:
        """The interval does not hold zero."""
        return self.low is not None and self.high is not None and (self.low > 0 or self.high < 0)


NOTHING = Difference(None, None, None, None, None)


def share_difference(first: tuple[int, int], second: tuple[int, int]) -> Difference:
    """Of two shares given as (good, calls), in percentage points.

    Newcombe's hybrid score interval (1998, method 10): built from both Wilson intervals, so that it holds for few
    calls and for shares near 0 and 100 % as well.
    """
    if first[1] == 0 or second[1] == 0:
        return NOTHING
    a, b = wilson(*first), wilson(*second)
    assert a.pct is not None
    assert b.pct is not None
    change = b.pct - a.pct
    low = change - math.hypot(b.pct - b.low_pct, a.high_pct - a.pct)
    high = change + math.hypot(b.high_pct - b.pct, a.pct - a.low_pct)
    return Difference(a.pct, b.pct, change, low, high)


def mean_difference(first: Sequence[float], second: Sequence[float]) -> Difference:
    """Of two means of per-call values, with Welch's interval, which lets the spreads differ.

    Below two calls a side there is a difference but no interval.
    """
    if not first or not second:
        return NOTHING
    a, b = np.asarray(first, dtype=float), np.asarray(second, dtype=float)
    mean_a, mean_b = float(a.mean()), float(b.mean())
    change = mean_b - mean_a
    if len(a) < 2 or len(b) < 2:
        return Difference(mean_a, mean_b, change, None, None)
    part_a, part_b = float(a.var(ddof=1)) / len(a), float(b.var(ddof=1)) / len(b)
    spread = part_a + part_b
    if spread == 0:
        return Difference(mean_a, mean_b, change, change, change)
    freedom = spread**2 / (part_a**2 / (len(a) - 1) + part_b**2 / (len(b) - 1))
    from scipy import stats  # heavy, and wanted by one screen only

    half = float(stats.t.ppf(0.975, freedom)) * math.sqrt(spread)
    return Difference(mean_a, mean_b, change, change - half, change + half)
