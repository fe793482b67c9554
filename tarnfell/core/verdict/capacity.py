"""Concurrent calls: the share of acceptable calls at each load tried, and which load is shown to be sustained.

More load never serves calls better. So what is shown at a load is shown at every smaller one, and what fails at a load
fails at every larger one. The curve is the isotonic fit of the loads' shares, weighted by their moments. Its band at a
load has two witnesses for each end: the moments at that very load, and all moments at it or beyond it (lower end) or at
it or below it (upper end). Each is taken at 97.5 %, so that the better of the two keeps 95 %, and 93 % with what other
loads carry over (a test holds that). A bad call at two calls cannot outweigh a thousand good ones at twenty-four, nor
the other way round.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.verdict.moments import Moment, Share, Tallies, Tally, good_moments_more, share_of, worth_of
from tarnfell.core.verdict.readings import CallReading, tally_calls

WITNESS_CONFIDENCE = 0.975
"""Of each of a bound's two witnesses."""

State = Literal["shown", "shown not", "open"]


@dataclass(frozen=True)
class Step:
    """One load: what came of the calls placed at it, and what the whole curve says of it."""

    concurrent: int
    share: Share
    """Of the calls at this load alone."""
    fitted_pct: float
    low_pct: float
    high_pct: float
    """The band, from all loads."""
    worth_low_pct: float
    worth_high_pct: float
    state: State
    more_moments: int
    """Further moments at this load, all good, before it is shown; 0 where it is shown or shown not."""


@dataclass(frozen=True)
class Capacity:
    steps: tuple[Step, ...]
    sustained: int | None
    """The highest load that is shown; None where none is."""
    fails_at: int | None
    """The lowest load that is shown not."""
    observed: int | None
    """The highest load whose fitted share reaches the required one, however little it rests on."""

    def state_at(self, concurrent: int) -> State:
        """What is known of ``concurrent`` calls, tried or not."""
        if self.sustained is not None and self.sustained >= concurrent:
            return "shown"
        return "shown not" if self.fails_at is not None and self.fails_at <= concurrent else "open"

    def step_for(self, concurrent: int) -> Step | None:
        """The lowest load that was tried and proves ``concurrent`` calls where it is shown."""
        return next((step for step in self.steps if step.concurrent >= concurrent), None)

    def more_moments(self, concurrent: int, required_pct: float) -> int:
        """With so many calls, all good, before they are shown; 0 where they are shown or shown not."""
        if self.state_at(concurrent) != "open":
            return 0
        step = self.step_for(concurrent)
        return step.more_moments if step else good_moments_more({}, required_pct, WITNESS_CONFIDENCE)


def concurrent_words(count: int) -> str:
    return f"{count} concurrent {'call' if count == 1 else 'calls'}"


def capacity_of(calls: Iterable[CallReading], required_pct: float) -> Capacity:
    """From every call that was placed both ways; order does not matter."""
    loads: dict[int, list[CallReading]] = {}
    for call in calls:
        loads.setdefault(call.concurrent, []).append(call)
    return capacity_of_tallies({n: tallies for n in loads if (tallies := tally_calls(loads[n]))}, required_pct)


def capacity_of_tallies(tried: Mapping[int, Tallies], required_pct: float) -> Capacity:
    loads = sorted(tried)
    fitted = _isotonic([share_of(tried[n]) for n in loads])
    steps: list[Step] = []
    for i, n in enumerate(loads):
        at, above, below = tried[n], _together(tried, loads[i:]), _together(tried, loads[: i + 1])
        good, good_above, good_below = (share_of(t, WITNESS_CONFIDENCE) for t in (at, above, below))
        worth, worth_above, worth_below = (worth_of(t, WITNESS_CONFIDENCE) for t in (at, above, below))
        low, high = max(good.low_pct, good_above.low_pct), min(good.high_pct, good_below.high_pct)
        worth_low = max(worth.low_pct, worth_above.low_pct)
        worth_high = min(worth.high_pct, worth_below.high_pct)
        state: State = "shown" if low >= required_pct else "shown not" if high < required_pct else "open"
        more = good_moments_more(at, required_pct, WITNESS_CONFIDENCE) if state == "open" else 0
        steps.append(Step(n, share_of(at), fitted[i], low, high, worth_low, worth_high, state, more))
    steps = _spread(steps)
    shown = [s.concurrent for s in steps if s.state == "shown"]
    fails = [s.concurrent for s in steps if s.state == "shown not"]
    held = [s.concurrent for s in steps if s.fitted_pct >= required_pct]
    return Capacity(
        tuple(steps), max(shown, default=None), min(fails, default=None), max(held, default=0 if steps else None)
    )


def _together(tried: Mapping[int, Tallies], loads: Sequence[int]) -> dict[Moment, Tally]:
    """The moments of several loads; one in which two were tried counts once."""
    found: dict[Moment, Tally] = {}
    for n in loads:
        for moment, t in tried[n].items():
            had = found.get(moment)
            found[moment] = t if had is None else had + t
    return found


def _spread(steps: list[Step]) -> list[Step]:
    """The bounds made to fall with load: shown carries down, shown not carries up; where both meet nothing is told."""
    lows, worth_lows = [s.low_pct for s in steps], [s.worth_low_pct for s in steps]
    highs, worth_highs = [s.high_pct for s in steps], [s.worth_high_pct for s in steps]
    found = []
    for i, s in enumerate(steps):
        low, high = max(lows[i:]), min(highs[: i + 1])
        worth_low, worth_high = max(worth_lows[i:]), min(worth_highs[: i + 1])
        carried = {s.state, *(t.state for t in steps[i:] if t.state == "shown")}
        carried |= {t.state for t in steps[: i + 1] if t.state == "shown not"}
        carried -= {"open"}
        state: State = next(iter(carried)) if len(carried) == 1 else "open"
        more = s.more_moments if state == "open" else 0
        if low > high:
            low, high = high, low
        if worth_low > worth_high:
            worth_low, worth_high = worth_high, worth_low
        found.append(Step(s.concurrent, s.share, s.fitted_pct, low, high, worth_low, worth_high, state, more))
    return found


def _isotonic(shares: Sequence[Share]) -> list[float]:
    """Falling fit by pooling adjacent violators (Ayer et al. 1955), weighted by moments."""
    blocks: list[tuple[float, float, int]] = []
    for share in shares:
        value, weight, width = share.pct or 0.0, float(share.moments), 1
        while blocks and blocks[-1][0] < value:
            before, heavy, wide = blocks.pop()
            value = (value * weight + before * heavy) / (weight + heavy)
            weight, width = weight + heavy, width + wide
        blocks.append((value, weight, width))
    return [value for value, _, width in blocks for _ in range(width)]
