"""Quantiles of one stream, or of each of its seconds: thousands are asked for, of a few hundred values each."""

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


def quantiles_of_each(
    values: NDArray[np.float64], group: NDArray[np.int64], groups: int, percents: Sequence[float]
) -> list[NDArray[np.float64]]:
    """As ``quantiles`` of each group's values; an array of shape (groups,) for each percentage, NaN where a group has
    none. ``group`` says of which group each of ``values`` is; both have shape (n,), and there is no NaN."""
    ordered = values[np.lexsort((values, group))]
    held = np.bincount(group, minlength=groups)
    some = held > 0
    first, last = (np.cumsum(held) - held)[some], held[some] - 1
    found = []
    for percent in percents:
        at = last * (percent / 100)
        below = at.astype(np.int64)
        part = at - below
        low, high = ordered[first + below], ordered[first + np.minimum(below + 1, last)]
        of_each = np.full(groups, np.nan)
        of_each[some] = np.where(part < 0.5, low + (high - low) * part, high - (high - low) * (1 - part))
        found.append(of_each)
    return found
