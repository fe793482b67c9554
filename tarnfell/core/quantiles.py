"""Quantiles of one stream or one second: thousands are asked for, of a few hundred values each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray


def quantiles(values: NDArray[np.float64] | NDArray[np.int64], percents: Sequence[float]) -> list[float]:
    """As ``numpy.percentile`` has them, linear between neighbours, to the last bit; that takes five times as long for a
    few hundred values. ``values`` has shape (n,), at least one and no NaN."""
    ordered = np.sort(values)
    last = len(ordered) - 1
    found = []
    for percent in percents:
        at = last * (percent / 100)
        below = int(at)
        part = at - below
        low, high = float(ordered[below]), float(ordered[min(below + 1, last)])
        found.append(low + (high - low) * part if part < 0.5 else high - (high - low) * (1 - part))
    return found
