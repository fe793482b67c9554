"""Samples minute by minute: quantiles of each place's answers, all at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tarnfell.core.days.rounds import Floats, Ints, Rounds

BLOCK_US = 60_000_000
LEAST_ROUNDS = 5
"""Of a block, where rounds are seldom."""


@dataclass(frozen=True)
class Blocks:
    """Stretches of a minute, or of five rounds where those take longer; only such with a round in them."""

    start_us: Ints
    block_us: int
    of_round: Ints
    """The block that each round lies in."""
    answered: Ints
    """Shape (places, blocks)."""
    ordered: tuple[Floats, ...]
    """For each place its answers, ascending, NaN after the last: shape (blocks, most rounds of a block)."""

    def quantile(self, place: int, share: float) -> Floats:
        """Between neighbours; NaN of a block without an answer."""
        ordered, count = self.ordered[place], self.answered[place]
        at = share * np.maximum(count - 1, 0)
        low = at.astype(np.int64)
        high = np.minimum(low + 1, np.maximum(count - 1, 0))
        rows = np.arange(len(count))
        lower, upper = ordered[rows, low], ordered[rows, high]
        return np.asarray(lower + (upper - lower) * (at - low))


def blocks_of(rounds: Rounds) -> Blocks:
    block_us = max(BLOCK_US, LEAST_ROUNDS * rounds.interval_us)
    numbers, of_round, counts = np.unique(
        (rounds.at_us - rounds.at_us[0]) // block_us, return_inverse=True, return_counts=True
    )
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    within = np.arange(len(rounds.at_us)) - starts[of_round]
    ordered, answered = [], []
    for rtt in rounds.rtt_ms:
        grid = np.full((len(numbers), int(counts.max())), np.nan)
        grid[of_round, within] = rtt
        grid.sort(axis=1)
        ordered.append(grid)
        answered.append(np.sum(~np.isnan(grid), axis=1))
    return Blocks(
        rounds.at_us[0] + numbers * block_us, block_us, of_round, np.array(answered, np.int64), tuple(ordered)
    )
