"""What is normal for a place at an hour of the week: the median of its minutes, and their usual distance from it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.days.blocks import Blocks
from tarnfell.core.days.local import day_and_minute, weekday
from tarnfell.core.days.rounds import Flags, Floats

HOURS = 168
USABLE_DAYS = 7
"""From here on each hour of the week has been seen."""
HOUR_OF_DAY_DAYS = 2

By = Literal["hour of the week", "hour of the day", "all hours"]


@dataclass(frozen=True)
class Baseline:
    """``median_ms`` and ``mad_ms`` have shape (168,), the first hour being Monday's; NaN where nothing was answered.

    ``mad_ms`` is the median absolute deviation from that median.
    """

    by: By
    days: int
    median_ms: Floats
    mad_ms: Floats

    @property
    def forming(self) -> bool:
        """Less than a week was seen: what is told stands for hours that were not."""
        return self.days < USABLE_DAYS


def baseline_of(blocks: Blocks, place: int, zone: ZoneInfo) -> Baseline:
    """From the minutes that a place answered in; an hour never seen takes the hour of the day, then all hours."""
    median = blocks.quantile(place, 0.5)
    known = ~np.isnan(median)
    days, minutes = day_and_minute(blocks.start_us, zone)
    hour_of_day, hour = minutes // 60, weekday(days) * 24 + minutes // 60
    count = len(np.unique(days[known]))
    by: By = "all hours"
    if count >= USABLE_DAYS:
        by = "hour of the week"
    elif count >= HOUR_OF_DAY_DAYS:
        by = "hour of the day"
    middles, spreads = np.full(HOURS, np.nan), np.full(HOURS, np.nan)
    for number in range(HOURS):
        choices = [known & (hour == number), known & (hour_of_day == number % 24), known]
        usable = choices[{"hour of the week": 0, "hour of the day": 1, "all hours": 2}[by] :]
        own = next((choice for choice in usable if choice.any()), None)
        if own is not None:
            middles[number], spreads[number] = _middle(median, own)
    return Baseline(by, count, middles, spreads)


def _middle(values: Floats, own: Flags) -> tuple[float, float]:
    middle = float(np.median(values[own]))
    return middle, float(np.median(np.abs(values[own] - middle)))
