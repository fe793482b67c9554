"""Stretches of rounds in which more was missed than chance brings: by scores of likelihood, summed.

Each round that was missed adds to a stretch the logarithm of how much likelier it is in trouble than usually, each one
that was not takes a little off (Page 1954, Siegmund 1985). The part with the highest sum is a stretch if that sum
could hardly come up once in the whole watch by chance. Single rounds never reach it, and a gap ends a stretch.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from tarnfell.core.days.rounds import Flags, Ints

SPARSE, DENSER = (0.0, 180.0), ((0.6, 60.0), (0.15, 120.0))
"""Missed share of the trouble that is looked for, and over how many seconds without any it is still one; of the sparse
one it is the share that just spoils a call."""
GONE = (0.95, 60.0)
"""The same of a way that is gone: by it an outage is told from what was lost alone a few rounds before or after."""
CLEARLY = 2.0
"""By so much the logarithm must be larger: sevenfold."""
JOIN_ROUNDS, SPARSE_ROUNDS = 3, 100
"""Where rounds are seldom: so many good ones do not end it, and of the sparse trouble, in which one round of twenty is
missed, so many."""
LEAST_MISSED = 5
CHANCE = 1e-3
"""Of one false stretch in a whole watch."""
LEAST_USUAL, MOST_USUAL = 0.002, 0.75
"""A share, and a part of what spoils a call."""
USUAL_BLOCK, FEWEST_BLOCKS = 600, 6
"""Rounds over which the usual share is taken, and how many such must be there; else a tenth of it is."""
OVER_USUAL = 2.5
DENSER_BY = 2.0
"""A part of a stretch that stands for itself misses so many times what the rest of it does, beyond chance."""


class Stretch(NamedTuple):
    """From the first round that was missed to the last, both among them."""

    first: int
    last: int


def usual_share(missed: Flags, most: float) -> float:
    """What is missed at most times, 0…1: the median over blocks of rounds, at least 0.2 %, at most ``most``."""
    size = USUAL_BLOCK
    while size > FEWEST_BLOCKS and len(missed) < FEWEST_BLOCKS * size:
        size //= 10
    whole = len(missed) // size * size
    shares = missed[:whole].reshape(-1, size).mean(axis=1) if whole else np.array([0.0])
    return float(min(max(np.median(shares), LEAST_USUAL), most))


def stretches(
    missed: Flags, at_us: Ints, interval_us: int, spoiling_share: float, spoils: Callable[[float], bool]
) -> list[Stretch]:
    """In the order of time, none overlapping. ``spoils`` tells of a missed share whether it spoils a call."""
    search = _Search(missed, at_us, interval_us, spoiling_share, spoils)
    found: list[Stretch] = []
    whole = Stretch(0, len(missed) - 1)
    for level in (SPARSE, *reversed(DENSER)):
        for free in _between(whole, search.seen):
            for one in search.at_level(level, free):
                found += search.refined(one, DENSER)
                search.seen.append(one)
        search.seen.sort()
    return sorted(found)


class _Search:
    def __init__(
        self,
        missed: Flags,
        at_us: Ints,
        interval_us: int,
        spoiling_share: float,
        spoils: Callable[[float], bool],
    ) -> None:
        self._at_us, self._interval_us = at_us, interval_us
        (self._rounds,) = np.nonzero(missed)
        self._spoiling, self._spoils = spoiling_share, spoils
        self._usual = usual_share(missed, MOST_USUAL * spoiling_share)
        self._enough = math.log(len(missed) / CHANCE)
        self.seen: list[Stretch] = []
        """Looked into already, whatever came of it."""

    def at_level(self, level: tuple[float, float], within: Stretch) -> list[Stretch]:
        share, join_s = level
        trouble = max(share or self._spoiling, OVER_USUAL * self._usual)
        gain, cost = math.log(trouble / self._usual), -math.log((1 - trouble) / (1 - self._usual))
        rounds = JOIN_ROUNDS if share else SPARSE_ROUNDS
        join_us = max(join_s * 1e6, (rounds + 1) * self._interval_us)
        return [
            Stretch(first, last)
            for group in self._groups(within, join_us)
            for first, last in _highest(group, gain, cost, self._enough)
        ]

    def refined(self, one: Stretch, levels: tuple[tuple[float, float], ...]) -> list[Stretch]:
        """An outage within a lossy hour keeps its own beginning and end; a few losses close together do not."""
        for i, level in enumerate(levels):
            parts = self._standing_out(one, self.at_level(level, one))
            if parts:
                found = [finer for part in parts for finer in self.refined(part, levels[:i])]
                for rest in _between(one, parts):
                    for again in self.at_level(SPARSE, rest):
                        found += self.refined(again, levels[i + 1 :])
                return found
        one = self._trimmed(one)
        hit, rounds = self._missed(one)
        return [one] if self._spoils(hit / rounds) else []

    def _trimmed(self, one: Stretch) -> Stretch:
        """Its core, where that in trouble and the rest as usual is clearly likelier than trouble from end to end."""
        cores = self.at_level(GONE, one)
        if len(cores) != 1 or self._over_usual(cores[0]) < self._over_usual(one) + CLEARLY:
            return one
        return cores[0]

    def _over_usual(self, one: Stretch) -> float:
        """How much likelier its missed rounds are by its own share than by the usual one, as a logarithm."""
        hit, rounds = self._missed(one)
        usual = hit * math.log(self._usual) + (rounds - hit) * math.log(1 - self._usual)
        return _log_likelihood(hit, rounds) - usual

    def _standing_out(self, whole: Stretch, parts: list[Stretch]) -> list[Stretch]:
        """Each against all else of the whole; or all together, where trouble comes and goes, against what lies between.

        What lies between was chosen for what it has not missed, so that it is no measure for one part alone.
        """
        hit, rounds = self._missed(whole)
        enough = math.log(rounds / CHANCE)
        told = [self._missed(part) for part in parts]
        alone = [
            part
            for part, (own, of) in zip(parts, told, strict=True)
            if _is_denser((own, of), (hit - own, rounds - of), enough)
        ]
        if alone or not parts:
            return alone
        inside, of = (sum(one[i] for one in told) for i in (0, 1))
        together = _is_denser((inside, of), (hit - inside, rounds - of), len(parts) * enough)
        return parts if together else []

    def _missed(self, one: Stretch) -> tuple[int, int]:
        low, high = np.searchsorted(self._rounds, [one.first, one.last + 1])
        return int(high - low), one.last - one.first + 1

    def _groups(self, within: Stretch, join_us: float) -> list[Ints]:
        """Missed rounds with no longer pause between them."""
        low, high = np.searchsorted(self._rounds, [within.first, within.last + 1])
        rounds = self._rounds[low:high]
        if not len(rounds):
            return []
        groups = np.split(rounds, np.nonzero(np.diff(self._at_us[rounds]) > join_us)[0] + 1)
        return [group for group in groups if len(group) >= LEAST_MISSED]


def _is_denser(part: tuple[int, int], rest: tuple[int, int], enough: float) -> bool:
    """By the likelihood of two shares against that of one."""
    (hit, rounds), (others, of) = part, rest
    if not of or hit / rounds < DENSER_BY * others / of:
        return False
    more = _log_likelihood(hit, rounds) + _log_likelihood(others, of) - _log_likelihood(hit + others, rounds + of)
    return more >= enough


def _log_likelihood(hit: int, of: int) -> float:
    return sum(part * math.log(part / of) for part in (hit, of - hit) if part)


def _between(whole: Stretch, parts: list[Stretch]) -> list[Stretch]:
    """What is left of it; ``parts`` are in order."""
    edges = [whole.first, *(edge for part in parts for edge in (part.first, part.last + 1)), whole.last + 1]
    return [Stretch(first, until - 1) for first, until in zip(edges[::2], edges[1::2], strict=True) if until > first]


def _highest(group: Ints, gain: float, cost: float, enough: float) -> list[tuple[int, int]]:
    """The parts of a group whose sum reaches ``enough``, each as long as its sum rises."""
    found = []
    place = 0
    rounds = group.tolist()
    while place < len(rounds):
        begin, total, best, best_at = place, gain, gain, place
        at = place + 1
        while at < len(rounds):
            total -= cost * (rounds[at] - rounds[at - 1] - 1)
            if total <= 0:
                break
            total += gain
            if total > best:
                best, best_at = total, at
            at += 1
        if best >= enough and best_at - begin + 1 >= LEAST_MISSED:
            found.append((rounds[begin], rounds[best_at]))
            place = best_at + 1
        else:
            place = at if at > begin else begin + 1
    return found
