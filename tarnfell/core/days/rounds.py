"""Samples of several places side by side: a round holds what was asked of them at the same instant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.legs import Role

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]

SAME_INSTANT_US = 50_000
"""Samples of one round lie within 20 ms of each other; the rest is for a machine that stood still between two."""
GAP_ROUNDS = 3
"""So many rounds that are not there are a gap in the watch."""
LEAST_GAP_US = 5_000_000


@dataclass(frozen=True)
class Place:
    """Who was asked."""

    role: Role
    name: str


@dataclass(frozen=True)
class Gap:
    """A stretch of which there are no samples: no evidence of the way, for good or bad."""

    from_us: int
    until_us: int


@dataclass(frozen=True)
class Rounds:
    """``sent`` and ``rtt_ms`` have shape (places, rounds). ``rtt_ms`` is NaN where no answer came, or nothing was
    sent."""

    places: tuple[Place, ...]
    at_us: Ints
    """Unix time of each round, ascending."""
    sent: Flags
    rtt_ms: Floats
    interval_us: int
    """The usual one from a round to the next."""
    up_ms: Floats | None = None
    """One-way delay up where time stamps tell it, of two clocks that nobody has set alike; NaN elsewhere."""

    @cached_property
    def lost(self) -> Flags:
        return np.asarray(self.sent & np.isnan(self.rtt_ms))

    def gaps(self) -> tuple[Gap, ...]:
        """Where rounds are missing; before the first and after the last nothing is."""
        most = max(LEAST_GAP_US, GAP_ROUNDS * self.interval_us)
        (after,) = np.nonzero(np.diff(self.at_us) > most)
        return tuple(Gap(int(self.at_us[i]) + self.interval_us, int(self.at_us[i + 1])) for i in after)


def rounds_of(places: Sequence[Place], at_us: Ints, place: Ints, rtt_ms: Floats) -> Rounds:
    """From samples in any order, each with its time, the number of its place, and NaN where it was lost.

    Where places are asked together, those within 50 ms are one round; else each sample goes to the nearest turn of the
    shortest interval. No sample is dropped. Raises ValueError without samples.
    """
    if not len(at_us):
        raise ValueError("There are no samples.")
    order = np.lexsort((place, at_us))
    at, who, rtt = at_us[order], place[order], rtt_ms[order]
    interval_us = _interval(at, who, len(places))
    number = _by_instant(at, who, interval_us)
    if number is None:
        number = _by_turn(at, who, len(places), interval_us)
    _, number = np.unique(number, return_inverse=True)
    count = int(number.max()) + 1
    when = np.full(count, np.iinfo(np.int64).max)
    np.minimum.at(when, number, at)
    sent = np.zeros((len(places), count), bool)
    table = np.full((len(places), count), np.nan)
    sent[who, number] = True
    table[who, number] = rtt
    return Rounds(tuple(places), when, sent, table, interval_us)


def _interval(at: Ints, who: Ints, places: int) -> int:
    """The usual one of the place that was asked most often; a second where there is but one sample."""
    own = at[who == np.bincount(who, minlength=places).argmax()]
    steps = np.diff(own)
    steps = steps[steps > 0]
    return max(1000, int(np.median(steps))) if len(steps) else 1_000_000


def _by_instant(at: Ints, who: Ints, interval_us: int) -> Ints | None:
    """Samples that follow each other closely are one round; None where a place would be in one twice."""
    starts = np.diff(at) > min(SAME_INSTANT_US, interval_us // 3)
    number = np.concatenate([[0], np.cumsum(starts)]).astype(np.int64)
    return number if np.bincount(number * (int(who.max()) + 1) + who).max() == 1 else None


def _by_turn(at: Ints, who: Ints, places: int, interval_us: int) -> Ints:
    number = np.empty(len(at), np.int64)
    for place in range(places):
        own = np.nonzero(who == place)[0]
        turns = np.rint((at[own] - at[0]) / interval_us).astype(np.int64)
        # Two of one place that fall on one turn: the second goes to the next.
        steps = np.arange(len(own))
        number[own] = np.maximum.accumulate(turns - steps) + steps
    return number
