"""On which leg packets were lost, from what places along the path missed in one stretch.

What the end of the way missed is the product of what each leg let through. Every place before it missed at least what
the legs up to it lost; it may have missed more of its own, as a router that answers late or seldom does. Few rounds
leave many ways to explain what was seen: each is weighed by how well it foretells it (Bayes' theorem on a grid of
losses). The least loss among several places is no estimate to compare with: of few rounds it is low by chance, and
would put the line's loss beyond it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import chain

import numpy as np

from tarnfell.core.days.rounds import Flags, Floats

_STEP = 0.35
_LOSSES = np.concatenate([[0.0], 1 / (1 + np.exp(-np.arange(-5.6, 5.61, _STEP)))])
"""Of one leg: even steps of its odds' logarithm, from 0.4 to 99.6 %."""
_PRIOR = np.concatenate([[0.5], np.full(len(_LOSSES) - 1, 0.5 / (len(_LOSSES) - 1))])
"""A leg is as likely as not to have nothing to do with it."""
OWN_ON_PATH, OWN_ASIDE = 0.2, 0.5
"""How likely a place misses more than the way up to it: one that calls pass, and one that lies on a way of its own."""
_CHANCE = 0.002
"""No place is so good that it never misses a round."""
_MOST_INFORMATION = 12.0
"""About the odds' logarithm (n·q·(1 - q)), so that no more is read from a place than the grid's steps resolve; each
leg is told long before."""
MOST_PARTS = 60
"""Of a stretch, by which it is asked how much rounds tell."""
LEAST_PARTS = 20
"""From so many on it can be told whether losses of neighbouring rounds go together."""


@dataclass(frozen=True)
class Missed:
    """What one place missed of what it was asked in the stretch."""

    lost: float
    asked: float
    usual: float
    """Share that it misses at other times."""
    own: float = 0.0
    """How likely it misses more than the legs up to it lost."""

    @property
    def information(self) -> float:
        return self.lost * (1 - self.lost / self.asked)

    def times(self, share: float) -> Missed:
        """The same loss, seen in fewer rounds."""
        return replace(self, lost=share * self.lost, asked=share * self.asked)


@dataclass(frozen=True)
class Weighed:
    share: Floats
    """Of what the end missed, expected; together 1. Shape (legs,)."""
    most: Floats
    """How likely each leg has most of it. Shape (legs,)."""


def weigh(end: Missed, up_to: Sequence[Sequence[Missed]]) -> Weighed:
    """``up_to`` has for each leg but the last the places at its far side or beyond that tell what was lost up to
    there: shape (legs - 1,) of any number."""
    legs = len(up_to) + 1
    less = min(1.0, *(_MOST_INFORMATION / max(one.information, 1e-9) for one in [end, *chain.from_iterable(up_to)]))
    kept = 1 - _LOSSES
    passed = np.ones((1,) * legs)
    weight = np.zeros((1,) * legs)
    lost_here = []
    for leg in range(legs):
        shape = [1] * legs
        shape[leg] = len(_LOSSES)
        lost_here.append(passed * _LOSSES.reshape(shape))
        passed = passed * kept.reshape(shape)
        weight = weight + np.log(_PRIOR).reshape(shape)
        for place in up_to[leg] if leg < legs - 1 else [end]:
            weight = weight + _foretold(passed, place.times(less))
    chance = np.exp(weight - weight.max())
    here = np.array(np.broadcast_arrays(*lost_here)).reshape(legs, -1)
    whole = here.sum(axis=0)
    told = whole > 0
    chance = np.where(told, np.broadcast_to(chance, passed.shape).ravel(), 0.0)
    chance /= chance.sum()
    share = (here / np.where(told, whole, 1.0)) @ chance
    most = np.array([chance[here.argmax(axis=0) == leg].sum() for leg in range(legs)])
    return Weighed(share, most)


def _foretold(passed: Floats, place: Missed) -> Floats:
    """Logarithm of how likely the place misses what it did when so much of its traffic passed. Shape of ``passed``."""
    through = passed * (1 - place.usual)
    if place.own == 0:
        return _log_binomial(through, place)
    own = (1 - _LOSSES[1:]).reshape(-1, *[1] * passed.ndim)
    more = np.exp(_log_binomial(through * own, place)).mean(axis=0)
    none = np.exp(_log_binomial(through, place))
    return np.asarray(np.log((1 - place.own) * none + place.own * more + 1e-300))


def _log_binomial(through: Floats, place: Missed) -> Floats:
    """But for the term that is the same whatever passed; relative to the best there is, so that it does not vanish."""
    lost = np.clip(1 - through, _CHANCE, 1 - _CHANCE)
    seen = np.clip(place.lost / place.asked, _CHANCE, 1 - _CHANCE)
    gone, came = place.lost, place.asked - place.lost
    return np.asarray(gone * np.log(lost / seen) + came * np.log((1 - lost) / (1 - seen)))


def evidence_share(lost: Flags) -> float:
    """What rounds count for, at most 1: losses of neighbours may go together, and tell less than as many apart.
    ``lost`` are the rounds of a stretch, in order."""
    size = -(-len(lost) // MOST_PARTS)
    parts = lost[: len(lost) // size * size].reshape(-1, size).mean(axis=1)
    rate = float(lost.mean())
    alone = rate * (1 - rate) / size
    if len(parts) < LEAST_PARTS or alone == 0 or size == 1:
        return 1.0
    return min(1.0, alone / max(float(parts.var(ddof=1)), 1e-12))
