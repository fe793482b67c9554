"""How sure a share is when calls are not each their own witness.

Calls held together, or within the same minutes, meet the same moment of the network: a hundred of them at once say
little more than one. So evidence is counted in moments, ten-minute cells of a day at the site, and the interval of a
share is built from moments:

    share    the mean of the moments' own shares, each moment counting the same
    v        how much the moments scatter, as a part of what they would if each were wholly good or wholly bad:
             (sum of squared deviations + 1) / (moments · share · (1 − share) + 1). The 1 stands for one moment not seen
             yet that is wholly bad: with no bad call v is 1 and the bound is about 3.7 over the number of moments,
             whatever the number of calls.
    n        moments / v, the effective sample size (Kish 1965), at most the number of calls
    interval Clopper–Pearson on n with fractional counts (Korn and Graubard 1998), 95 %
    days     bad moments that flock on some days tell less of how rare they are: for the lower end, v is at least
             (sum over days of squared bad + 1) / (bad + 1), the mean number of bad moments on a bad day. The upper
             end does without: that a site failed on the days watched needs no other days to be true.

Good evidence never lowers the lower end, bad evidence never raises the upper one. A kind of day that was never watched
is in no interval; why a brief asks for a number of days is that. ``benchmarks/coverage.py`` holds all this against
simulated networks; docs/method.md prints the tables.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.stats import CONFIDENCE, MOMENT_S, moments_to_show

Floats = NDArray[np.float64]

CELL_MINUTES = MOMENT_S // 60
CELLS_A_DAY = 24 * 60 // CELL_MINUTES
UNSEEN = 1.0
"""Wholly bad moments allowed for beside those that were seen."""

Moment = tuple[str, int]
"""ISO date at the site and ten-minute cell of that day, 0…143."""


def moments_between(day: str, minute: float, seconds: float) -> tuple[Moment, ...]:
    """The cells that ``seconds`` from ``minute`` of ``day`` on cover; a call that only touches the next cell's first
    instant is not in it."""
    first = int(minute // CELL_MINUTES)
    last = max(first, math.ceil((minute + seconds / 60) / CELL_MINUTES) - 1)
    if last < CELLS_A_DAY:
        return tuple((day, cell) for cell in range(first, last + 1))
    start = date.fromisoformat(day)
    return tuple(
        ((start + timedelta(days=cell // CELLS_A_DAY)).isoformat(), cell % CELLS_A_DAY)
        for cell in range(first, last + 1)
    )


@dataclass(frozen=True)
class Share:
    """A share with its interval, in percent, and what it rests on."""

    good: int
    calls: int
    moments: int
    days: int
    pct: float | None
    """Mean over moments; None without evidence."""
    low_pct: float
    high_pct: float


NO_SHARE = Share(0, 0, 0, 0, None, 0.0, 100.0)


@dataclass(frozen=True, slots=True)
class Tally:
    """What one moment held: calls, how many were good, and the sum of their worth (0…1 each)."""

    calls: int = 0
    good: int = 0
    worth: float = 0.0
    begun: int = 0
    """Of the calls, those that began in this moment: summed over moments, each call once."""
    begun_good: int = 0

    def __add__(self, other: Tally) -> Tally:
        return Tally(
            self.calls + other.calls,
            self.good + other.good,
            self.worth + other.worth,
            self.begun + other.begun,
            self.begun_good + other.begun_good,
        )


Tallies = Mapping[Moment, Tally]


@dataclass(frozen=True)
class Watched:
    """What one watch tells of a site's time."""

    moments: frozenset[Moment]
    """In at least half of which it sampled."""
    troubled: frozenset[Moment]
    """With trouble that would have spoiled a call."""


def tally(calls: Iterable[tuple[Iterable[Moment], bool, float]]) -> dict[Moment, Tally]:
    """Calls as (moments covered in the order of time, good, worth) into their moments."""
    sums: dict[Moment, list[float]] = {}
    for moments, good, worth in calls:
        begins = True
        for moment in moments:
            own = sums.get(moment)
            if own is None:
                own = sums[moment] = [0, 0, 0.0, 0, 0]
            own[0] += 1
            own[1] += good
            own[2] += worth
            own[3] += begins
            own[4] += begins and good
            begins = False
    return {
        moment: Tally(int(count), int(good), worth, int(begun), int(begun_good))
        for moment, (count, good, worth, begun, begun_good) in sums.items()
    }


def with_watches(calls: Tallies, watches: Iterable[Watched]) -> dict[Moment, Tally]:
    """Of each moment the worse of what its calls had and what watches had: a short call every half hour passes most
    breaks by, and a watch knows one way of several."""
    watched = tally(
        ((moment,), moment not in one.troubled, float(moment not in one.troubled))
        for one in watches
        for moment in one.moments | one.troubled
    )
    found = dict(calls)
    for moment, own in watched.items():
        known = found.get(moment)
        if known is None or own.good / own.calls < known.good / known.calls:
            found[moment] = own
    return found


def share_of(tallies: Tallies, confidence: float = CONFIDENCE) -> Share:
    """The share of good calls with its interval."""
    return _share(tallies, lambda t: t.good / t.calls, confidence)


def worth_of(tallies: Tallies, confidence: float = CONFIDENCE) -> Share:
    """The mean worth of calls: a near miss counts nearly as a call that was good."""
    return _share(tallies, lambda t: t.worth / t.calls, confidence)


def _share(tallies: Tallies, value: Callable[[Tally], float], confidence: float) -> Share:
    if not tallies:
        return NO_SHARE
    held = list(tallies.values())
    shares = np.array([value(t) for t in held], dtype=float)
    low, high = interval(shares, sum([t.calls for t in held]), _bad_by_day(tallies, shares), confidence)
    return Share(
        # A long call is evidence in each moment that it covers, and still one call.
        good=sum([t.begun_good for t in held]),
        calls=sum([t.begun for t in held]),
        moments=len(shares),
        days=len({day for day, _ in tallies}),
        pct=100 * float(shares.mean()),
        low_pct=100 * low,
        high_pct=100 * high,
    )


def _bad_by_day(tallies: Tallies, shares: Floats) -> Floats:
    """Bad moments of each day that held any, shape (days,)."""
    days: dict[str, float] = {}
    for (day, _), share in zip(tallies, shares.tolist(), strict=True):
        if share < 1:
            days[day] = days.get(day, 0.0) + 1 - share
    return np.array(list(days.values()), dtype=float)


def interval(shares: Floats, calls: int, bad_by_day: Floats, confidence: float = CONFIDENCE) -> tuple[float, float]:
    """Interval of the mean of ``shares`` (shape (moments,), each 0…1), which ``calls`` were placed for; 0…1.

    ``bad_by_day`` has the sum of 1 − share for each day with any.
    """
    from scipy.special import betaincinv  # a second to load: what asks a network or fills a line has no use for it

    moments, p = len(shares), float(shares.mean())
    full = moments * p * (1 - p) + UNSEEN
    scatter = (float(np.sum((shares - p) ** 2)) + UNSEEN) / full
    flocking = (float(np.sum(bad_by_day**2)) + UNSEEN) / (float(np.sum(bad_by_day)) + UNSEEN)
    most, tail = max(calls, moments), (1 - confidence) / 2
    n = min(moments / max(scatter, flocking), most)
    # Counts are fractions here; what is a rounding error away from none is none.
    low = float(betaincinv(p * n, (1 - p) * n + 1, tail)) if p * n > 1e-9 else 0.0
    n = min(moments / scatter, most)
    high = float(betaincinv(p * n + 1, (1 - p) * n, 1 - tail)) if (1 - p) * n > 1e-9 else 1.0
    return low, high


MOST_MORE = 9_999


def good_moments_more(tallies: Tallies, required_pct: float, confidence: float = CONFIDENCE) -> int:
    """Further moments that must all be good before ``required_pct`` is shown; 0: it is.

    At most 9 999: a share so far below is not mended by more evidence.
    """
    shares = np.array([t.good / t.calls for t in tallies.values()], dtype=float)
    bad = _bad_by_day(tallies, shares)
    calls = sum(t.calls for t in tallies.values())
    return _good_more(tuple(shares.tolist()), calls, tuple(bad.tolist()), required_pct, confidence)


@functools.lru_cache(maxsize=256)
def _good_more(
    so_far: tuple[float, ...], calls: int, bad_by_day: tuple[float, ...], required_pct: float, confidence: float
) -> int:
    """The same is asked for again and again: of each site that has no evidence yet, and once a requirement."""
    shares, bad = np.array(so_far, dtype=float), np.array(bad_by_day, dtype=float)

    def shown(more: int) -> bool:
        if not len(shares) + more:
            return False
        low, _ = interval(np.concatenate((shares, np.ones(more))), calls + more, bad, confidence)
        return 100 * low >= required_pct

    if shown(0):
        return 0
    low, high = 0, max(1, moments_to_show(required_pct, confidence))
    while not shown(high):
        if high >= MOST_MORE:
            return MOST_MORE
        low, high = high, min(MOST_MORE, high * 2)
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if shown(middle) else (middle, high)
    return high
