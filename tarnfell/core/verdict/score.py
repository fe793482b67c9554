"""The readiness score as a range, 0 to 100, and the verdict in words.

Points are earned by what was shown, lost to what was shown not, and open otherwise: the lower end is what is earned
even if all that is open turns out badly, the upper end what is left if it turns out well. More good evidence never
lowers the lower end, more bad evidence never raises the upper one. docs/method.md prints the same breakpoints.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.verdict.capacity import Capacity, concurrent_words
from tarnfell.core.verdict.causes import Cause, CauseName, Dimension
from tarnfell.core.verdict.facts import Brief
from tarnfell.core.verdict.fills import UnderLoad
from tarnfell.core.verdict.moments import Share, share_of, worth_of
from tarnfell.core.verdict.readings import CallReading, Reading
from tarnfell.core.verdict.requirements import Requirement, Shares, bounds_words, kept_marking_pct, share_words
from tarnfell.core.verdict.told import Told

Word = Literal["ready", "ready with conditions", "not ready", "not shown yet"]

WEIGHTS: dict[Dimension, int] = {
    "voice": 30,
    "capacity": 20,
    "steadiness": 20,
    "load": 15,
    "reachability": 10,
    "marking": 5,
}
WEIGHTS_WITH_VIDEO: dict[Dimension, int] = {
    "voice": 20,
    "video": 15,
    "capacity": 20,
    "steadiness": 15,
    "load": 15,
    "reachability": 10,
    "marking": 5,
}
"""Where the brief holds video."""
TITLES: dict[Dimension, str] = {
    "voice": "Voice quality",
    "video": "Video",
    "capacity": "Capacity",
    "steadiness": "Steadiness over days",
    "load": "Behaviour under load",
    "reachability": "Reachability",
    "marking": "Marking",
}
NOT_READY_CAP = 49
CONDITIONS_CAP = 79

# Breakpoints: (measured value, points out of 100), straight lines between, flat outside.
SHORTFALL = ((0.0, 100.0), (2.0, 60.0), (20.0, 0.0))
"""Percentage points by which the worth of calls, or of video streams, misses the required share."""
CAPACITY_SHARE = ((0.0, 0.0), (0.8, 60.0), (1.0, 100.0))
"""Sustained calls over needed calls."""
TROUBLED_PCT = ((0.0, 100.0), (0.5, 95.0), (5.0, 60.0), (30.0, 0.0))
"""Trouble over all ten-minute moments, day and night."""
SILENT_PCT = ((0.0, 100.0), (2.0, 60.0), (10.0, 0.0))
LOADED_SHORT_MOS = ((0.0, 100.0), (0.4, 60.0), (1.5, 0.0))
"""By which a call beside a full line misses the MOS asked."""
LEAST_POINTS = 0.05
"""Less is not told: it would read 0.0."""
LOADED_WAY = {"up": "upload", "down": "download"}
MARKING_KEPT_PCT = ((50.0, 0.0), (90.0, 60.0), (99.0, 100.0))


@dataclass(frozen=True)
class Taken:
    """Points of the site's score that one cause took."""

    cause: CauseName
    title: str
    points: float


@dataclass(frozen=True)
class DimensionScore:
    dimension: Dimension
    title: str
    weight: int
    low: float
    high: float
    """0…100 of this dimension, as far as shown and as far as still possible."""
    says: str
    taken: tuple[Taken, ...]
    """The points surely lost, by what took them; their sum may fall short of ``lost_points``."""

    @property
    def lost_points(self) -> float:
        return self.weight * (100 - self.high) / 100

    @property
    def open_points(self) -> float:
        return self.weight * (self.high - self.low) / 100


@dataclass(frozen=True)
class Verdict:
    word: Word
    provisional: bool
    """The word stands, and the evidence is short of what the brief asks."""
    low: int
    high: int
    """The score; one number where both are the same."""
    uncapped_low: float
    uncapped_high: float
    reasons: tuple[str, ...]
    """Why the word is what it is: what was shown not first, then what is open or a condition."""
    missing: tuple[str, ...]
    """What evidence is short of the brief."""
    requirements: tuple[Requirement, ...]
    dimensions: tuple[DimensionScore, ...]
    capacity: Capacity
    share: Share
    """Acceptable calls in business hours."""
    days: int
    busy_hours: int
    moments: int
    """Ten-minute moments of business hours with calls."""
    calls: int

    def taken_by(self, cause: Cause) -> float:
        """Points of the score, over all dimensions."""
        return sum(one.points for d in self.dimensions for one in d.taken if one.cause == cause.named)


def points(value: float, breakpoints: Sequence[tuple[float, float]]) -> float:
    """The breakpoints' straight lines at ``value``."""
    return float(np.interp(value, [b[0] for b in breakpoints], [b[1] for b in breakpoints]))


@dataclass(frozen=True)
class _Range:
    low: float
    high: float
    says: str


OPEN = (0.0, 100.0)


def score_dimensions(
    readings: Sequence[Reading],
    calls: Sequence[CallReading],
    shares: Shares,
    capacity: Capacity,
    causes: Sequence[Cause],
    brief: Brief,
    load: UnderLoad,
    closed: Sequence[Told],
) -> tuple[DimensionScore, ...]:
    """Every dimension of the brief, in the order of the method."""
    ranges: dict[Dimension, _Range] = {
        "voice": _voice(shares, brief),
        "video": _video(shares, brief),
        "capacity": _capacity(capacity, brief),
        "steadiness": _steadiness(shares, brief),
        "load": _load(load, brief),
        "reachability": _reachability(shares, closed),
        "marking": _marking(readings),
    }
    weights = WEIGHTS_WITH_VIDEO if brief.video else WEIGHTS
    return tuple(
        DimensionScore(
            d, TITLES[d], weight, ranges[d].low, ranges[d].high, ranges[d].says,
            _taken(d, weight * (100 - ranges[d].high) / 100, causes),
        )
        for d, weight in weights.items()
    )  # fmt: skip


def _taken(dimension: Dimension, lost: float, causes: Sequence[Cause]) -> tuple[Taken, ...]:
    """The points lost, shared among the causes by what each cost."""
    costs = [(c, c.cost.get(dimension, 0.0)) for c in causes]
    total = sum(cost for _, cost in costs)
    if total <= 0:
        return ()
    taken = [Taken(c.named, c.title, lost * cost / total) for c, cost in costs]
    return tuple(sorted((one for one in taken if one.points >= LEAST_POINTS), key=lambda one: -one.points))


def _short(bound_pct: float, required_pct: float) -> float:
    return points(max(0.0, required_pct - bound_pct), SHORTFALL)


def _voice(shares: Shares, brief: Brief) -> _Range:
    share, worth = share_of(shares.busy), worth_of(shares.busy)
    if share.pct is None:
        return _Range(*OPEN, "No call in business hours counts yet.")
    required = brief.required_share_pct
    says = f"{share_words(share, required)}; {required:g} % required."
    return _Range(_short(worth.low_pct, required), _short(worth.high_pct, required), says)


def _video(shares: Shares, brief: Brief) -> _Range:
    share, worth = share_of(shares.streams), worth_of(shares.streams)
    if share.pct is None:
        return _Range(*OPEN, "No video stream counts yet.")
    says = (
        f"{share.good} of {share.calls} video streams reached a picture score of {brief.target_picture:.1f}: "
        f"{bounds_words(share, brief.required_share_pct)}."
    )
    required = brief.required_share_pct
    return _Range(_short(worth.low_pct, required), _short(worth.high_pct, required), says)


def _capacity(capacity: Capacity, brief: Brief) -> _Range:
    """Lower end: the best of the loads tried. Upper end: the best of all loads up to the need, tried or not."""
    need, required = brief.needed_calls, brief.required_share_pct

    def value(concurrent: int, bound_pct: float) -> float:
        return points(concurrent / need, CAPACITY_SHARE) * _short(bound_pct, required) / 100

    low = max((value(min(s.concurrent, need), s.worth_low_pct) for s in capacity.steps), default=0.0)
    high = 0.0
    for n in range(need, 0, -1):
        below = [s.worth_high_pct for s in capacity.steps if s.concurrent <= n]
        high = max(high, value(n, min(below, default=100.0)))
        if high >= points(n / need, CAPACITY_SHARE):
            break  # fewer calls cannot earn more
    if not capacity.steps:
        return _Range(low, high, "No concurrent calls count yet.")
    shown = f"{concurrent_words(capacity.sustained)} shown" if capacity.sustained else "No number of calls shown yet"
    fails = f", {capacity.fails_at} shown to fail" if capacity.fails_at else ""
    return _Range(low, max(low, high), f"{shown}{fails}; {need} needed.")


def _steadiness(shares: Shares, brief: Brief) -> _Range:
    worth = worth_of(shares.steady)
    if worth.pct is None:
        return _Range(*OPEN, "No call counts yet, and no watch has been read.")
    # Few days say little of many: only their part of the days asked for is earned.
    watched = min(1.0, worth.days / brief.required_days)
    days = "1 day" if worth.days == 1 else f"{worth.days} days"
    says = (
        f"{worth.moments} ten-minute moments on {days} watched, {brief.required_days} required; "
        f"{100 - worth.pct:.1f} % of them troubled."
    )
    high = points(100 - worth.high_pct, TROUBLED_PCT)
    return _Range(min(high, points(100 - worth.low_pct, TROUBLED_PCT) * watched), high, says)


def _reachability(shares: Shares, closed: Sequence[Told]) -> _Range:
    share = share_of(shares.two_way)
    if closed:
        return _Range(0.0, 0.0, f"A check found closed what calls need: {closed[0].says}")
    if not shares.placed:
        return _Range(*OPEN, "No call counts yet.")
    silent = share.calls - share.good
    if not silent:
        return _Range(100.0, 100.0, f"Both directions carried audio in all {shares.placed} calls.")
    says = f"{silent} of {shares.placed} calls carried no audio in at least one direction."
    return _Range(points(100 - share.low_pct, SILENT_PCT), points(100 - share.high_pct, SILENT_PCT), says)


def _marking(readings: Sequence[Reading]) -> _Range:
    kept = kept_marking_pct(readings)
    if kept is None:
        return _Range(*OPEN, "No marked call counts yet.")
    value = points(kept, MARKING_KEPT_PCT)
    return _Range(value, value, f"{kept:.1f} % of packets arrived marked as sent.")


def _load(load: UnderLoad, brief: Brief) -> _Range:
    """A direction that was never seen full is open; the worst that a full one did to a call is what counts."""
    if load.least is None:
        return _Range(*OPEN, "The line has not been filled beside calls yet.")
    value = points(max(0.0, brief.target_mos - load.least), LOADED_SHORT_MOS)
    told = ", ".join(f"{LOADED_WAY[way]} {mos:.2f}" for way, mos in sorted(load.worst.items(), reverse=True))
    rest = "" if load.whole else " The other direction was not seen full yet."
    says = f"Beside a full line a call had at worst, in MOS: {told}; {brief.target_mos:.1f} is asked.{rest}"
    return _Range(value if load.whole else 0.0, value, says)


def word_of(requirements: Sequence[Requirement]) -> Word:
    """Not ready needs something shown not; ready needs everything shown."""
    stops = {r.state for r in requirements if r.stops}
    rest = {r.state for r in requirements if not r.stops}
    if "shown not" in stops:
        return "not ready"
    if "open" in stops:
        return "not shown yet"
    return "ready" if rest <= {"shown"} else "ready with conditions"


def caps_of(requirements: Sequence[Requirement]) -> tuple[int, int]:
    """The most the lower and the upper end may be: the lower takes what is open as failed, the upper as met."""

    def cap(stopped: bool, conditional: bool) -> int:
        return NOT_READY_CAP if stopped else CONDITIONS_CAP if conditional else 100

    failed = [r for r in requirements if r.state == "shown not"]
    unmet = [r for r in requirements if r.state != "shown"]
    return (
        cap(any(r.stops for r in unmet), bool(unmet)),
        cap(any(r.stops for r in failed), bool(failed)),
    )


def range_of(dimensions: Sequence[DimensionScore], requirements: Sequence[Requirement]) -> tuple[int, int]:
    low_cap, high_cap = caps_of(requirements)
    low = sum(d.weight * d.low for d in dimensions) / 100
    high = sum(d.weight * d.high for d in dimensions) / 100
    high = min(high, high_cap)
    # A hair below a whole number, as sums of floats are, is that number.
    return min(math.floor(min(low, low_cap) + 0.5), math.floor(high + 0.5)), math.floor(high + 0.5)
