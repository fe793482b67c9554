"""What is normal for a place at an hour of the week: the median of its minutes, and their usual distance from it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.days.blocks import Blocks
from tarnfell.core.days.local import day_and_minute, weekday
from tarnfell.core.days.rounds import Floats, Ints

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
    hours = np.arange(HOURS)
    grains: dict[By, tuple[Ints, Ints]] = {  # of each minute, and of each hour of the week
        "hour of the week": (hour, hours),
        "hour of the day": (hour_of_day, hours % 24),
        "all hours": (np.zeros_like(hour), np.zeros_like(hours)),
    }
    middles, spreads = np.full(HOURS, np.nan), np.full(HOURS, np.nan)
    for of_minutes, of_hours in list(grains.values())[list(grains).index(by) :]:
        middle, spread = (own[of_hours] for own in _middles(median[known], of_minutes[known]))
        unseen = np.isnan(middles)
        middles[unseen], spreads[unseen] = middle[unseen], spread[unseen]
    return Baseline(by, count, middles, spreads)


def _middles(values: Floats, groups: Ints) -> tuple[Floats, Floats]:
    """Of each group 0…167: the median of its values, and that of their distances from it; NaN where it has none."""
    medians = _medians(values, groups)
    return medians, _medians(np.abs(values - medians[groups]), groups)


def _medians(values: Floats, groups: Ints) -> Floats:
    """All groups in one sort: a median for each by itself takes ten times as long."""
    ordered = values[np.lexsort((values, groups))]
    counts = np.bincount(groups, minlength=HOURS)
    first = np.cumsum(counts) - counts
    some = counts > 0
    lower, upper = first[some] + (counts[some] - 1) // 2, first[some] + counts[some] // 2
    found = np.full(HOURS, np.nan)
    found[some] = (ordered[lower] + ordered[upper]) / 2
    return found
