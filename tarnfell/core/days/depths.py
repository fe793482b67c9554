"""How deep each leg's trouble was over days: what the path picture is painted by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from tarnfell.core.causes import DIRECTIONS, Direction, LegName, Way
from tarnfell.core.days.rounds import Flags, Floats, Ints

TENTH = 10.0
"""The worst tenth of the moments, as of calls."""


class Spoiled(Protocol):
    """An episode, as far as it matters here."""

    @property
    def from_us(self) -> int: ...
    @property
    def until_us(self) -> int: ...
    @property
    def leg(self) -> LegName: ...
    @property
    def direction(self) -> Way | None: ...
    @property
    def mos(self) -> float: ...


@dataclass(frozen=True)
class LegDepth:
    leg: LegName
    up_mos: float
    """What calls would have had for this leg's sake: the 10th percentile over ten-minute moments."""
    down_mos: float
    spoiled_s: int
    """In its episodes, at any hour."""


@dataclass(frozen=True)
class PathDepth:
    legs: tuple[LegDepth, ...]
    """From the inside out; two that were not told apart are one."""
    moments: int
    """Of ten minutes, that the percentiles are of."""
    in_business_hours: bool
    """All of them; where there were none in business hours, they are of all hours."""
    untold_s: int
    """In episodes of which the leg is not known, or that lie across legs told apart since."""


def path_depth(
    legs: Sequence[LegName], starts_us: Ints, length_us: int, busy: Flags, spoiled: Sequence[Spoiled], calm_mos: float
) -> PathDepth:
    """``starts_us`` are beginnings of stretches of ``length_us`` with samples, ``busy`` those in business hours; both
    have shape (stretches,). ``calm_mos`` is what calls have while nothing is in the way."""
    counted = busy if busy.any() else np.ones(len(starts_us), bool)
    told = []
    for leg in legs:
        own = [one for one in spoiled if one.leg == leg]
        up, down = (
            _tenth(starts_us[counted], length_us, [one for one in own if _concerns(one, way)], calm_mos)
            for way in DIRECTIONS
        )
        told.append(LegDepth(leg, up, down, _seconds(own)))
    return PathDepth(
        tuple(told), int(counted.sum()), bool(busy.any()), _seconds([one for one in spoiled if one.leg not in legs])
    )


def _concerns(one: Spoiled, way: Direction) -> bool:
    """Where the direction is not known it may have been either."""
    return one.direction in (way, "both", None)


def moments_mos(starts_us: Ints, length_us: int, spoiled: Sequence[Spoiled], calm_mos: float) -> Floats:
    """The worst that calls would have had in each stretch, of the shape of ``starts_us``, which is in order."""
    mos = np.full(len(starts_us), calm_mos)
    first = np.searchsorted(starts_us, np.array([one.from_us - length_us for one in spoiled], np.int64), side="right")
    last = np.searchsorted(starts_us, np.array([one.until_us for one in spoiled], np.int64), side="left")
    for one, begin, end in zip(spoiled, first.tolist(), last.tolist(), strict=True):
        np.minimum(mos[begin:end], one.mos, out=mos[begin:end])
    return mos


def _tenth(starts_us: Ints, length_us: int, spoiled: Sequence[Spoiled], calm_mos: float) -> float:
    mos = moments_mos(starts_us, length_us, spoiled, calm_mos)
    return round(float(np.percentile(mos, TENTH)), 2) if len(mos) else calm_mos


def _seconds(spoiled: Sequence[Spoiled]) -> int:
    return round(sum(one.until_us - one.from_us for one in spoiled) / 1e6)
