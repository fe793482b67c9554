"""What each place usually answers while nothing is in the way: the level that excess is measured from.

Not the median of the hour of the week: of a week there is one of each hour, and a squeeze at every noon would be its
own measure. So the level is a low one, of the calmest quarter of the minutes between two steps of the route.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from tarnfell.core.days.blocks import Blocks, blocks_of
from tarnfell.core.days.rounds import Floats, Rounds
from tarnfell.core.days.steps import Step, steps_of
from tarnfell.core.quantiles import quantiles

CALMEST = 25.0
"""Percentile of the minutes' medians."""


@dataclass(frozen=True)
class Calm:
    """``level_ms`` has shape (places, rounds); NaN for a place that never answered."""

    level_ms: Floats
    steps: tuple[Step, ...]
    blocks: Blocks


def calm_of(rounds: Rounds) -> Calm:
    blocks = blocks_of(rounds)
    steps = steps_of(blocks, rounds.places)
    levels = [
        _level(blocks, place, [step for step in steps if step.place == place])[blocks.of_round]
        for place in range(len(rounds.places))
    ]
    return Calm(np.array(levels), tuple(steps), blocks)


def _level(blocks: Blocks, place: int, steps: list[Step]) -> Floats:
    """Of each block."""
    median = blocks.quantile(place, 0.5)
    level = np.full(len(median), np.nan)
    edges = np.searchsorted(blocks.start_us, [step.at_us for step in steps])
    bounds = [0, *edges.tolist(), len(median)]
    for first, last in itertools.pairwise(bounds):
        own = median[first:last]
        known = own[~np.isnan(own)]
        if len(known):
            level[first:last] = quantiles(known, [CALMEST])[0]
    return level
