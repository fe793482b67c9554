"""Two sets of calls side by side: what differs, by how much it matters, and whether it is more than the moment.

Calls of one run share their moment, so a run of a hundred calls in ten minutes is one look at the network. Where a side
has few looks, what the site's other moments differ by among themselves says how far apart two looks may lie by chance.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.verdict.moments import Moment, Share, Tallies, share_of

ENOUGH_LOOKS = 5
"""Moments on each side from which on their own scatter is used."""
ENOUGH_OTHERS = 8
"""Other moments of the site from which on their scatter is used."""
CONFIDENCE_PCT = 95.0


@dataclass(frozen=True)
class Difference:
    """Second minus first, with its 95 % interval; None where too little is there to tell."""

    first: float | None
    second: float | None
    change: float | None
    low: float | None
    high: float | None
    smallest: float = 0.0
    """The smallest change that matters."""

    @property
    def sure(self) -> bool:
        """The interval does not hold zero, and the change is one that matters."""
        if self.low is None or self.high is None or self.change is None:
            return False
        return (self.low > 0 or self.high < 0) and abs(self.change) >= self.smallest


NOTHING = Difference(None, None, None, None, None)

Looks = Mapping[Moment, Sequence[float]]
"""What one side measured, by moment."""


def share_difference(first: Tallies, second: Tallies, smallest: float = 0.0) -> Difference:
    """Of two shares of good calls, in percentage points.

    Newcombe's hybrid score interval (1998, method 10), built from both sides' intervals by moments.
    """
    if not first or not second:
        return NOTHING
    return share_change(share_of(first), share_of(second), smallest)


def share_change(a: Share, b: Share, smallest: float = 0.0) -> Difference:
    """The same of two shares that are known, each with its interval."""
    assert a.pct is not None
    assert b.pct is not None
    change = b.pct - a.pct
    low = change - math.hypot(b.pct - b.low_pct, a.high_pct - a.pct)
    high = change + math.hypot(b.high_pct - b.pct, a.pct - a.low_pct)
    return Difference(a.pct, b.pct, change, low, high, smallest)


def mean_difference(first: Looks, second: Looks, others: Sequence[float] = (), smallest: float = 0.0) -> Difference:
    """Of two means over moments. ``others`` are means of the site's other moments of the same kind.

    With five moments or more a side Welch's interval on moments; with fewer, the 95th percentile of the differences
    between two other moments of the site, which needs eight of those; else there is a difference but no interval.
    """
    a, b = _means(first), _means(second)
    if not a or not b:
        return NOTHING
    mean_a, mean_b = float(np.mean(a)), float(np.mean(b))
    change = mean_b - mean_a
    half = _half(a, b, others)
    if half is None:
        return Difference(mean_a, mean_b, change, None, None, smallest)
    return Difference(mean_a, mean_b, change, change - half, change + half, smallest)


def _means(looks: Looks) -> list[float]:
    return [float(np.mean(values)) for values in looks.values() if len(values)]


def _half(a: Sequence[float], b: Sequence[float], others: Sequence[float]) -> float | None:
    if min(len(a), len(b)) >= ENOUGH_LOOKS:
        part_a, part_b = float(np.var(a, ddof=1)) / len(a), float(np.var(b, ddof=1)) / len(b)
        spread = part_a + part_b
        if spread == 0:
            return 0.0
        freedom = spread**2 / (part_a**2 / (len(a) - 1) + part_b**2 / (len(b) - 1))
        from scipy.special import stdtrit  # heavy, and wanted by one screen only

        return float(stdtrit(freedom, 0.975)) * math.sqrt(spread)
    if len(others) < ENOUGH_OTHERS:
        return None
    pairs = np.triu_indices(len(others), 1)
    apart = np.abs(np.subtract.outer(others, others)[pairs])
    # One look a side differs as two others do; more looks average it down.
    return float(np.percentile(apart, CONFIDENCE_PCT)) * math.sqrt((1 / len(a) + 1 / len(b)) / 2)
