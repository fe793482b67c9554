"""Calls at once, step by step: which numbers held, how sure that is, and how many the site sustains."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from tarnfell.core.stats import Share, calls_to_claim, wilson


@dataclass(frozen=True)
class Step:
    """One number of calls at once and what came of the calls placed so."""

    calls_at_once: int
    share: Share
    passes: bool
    """The share of acceptable calls reaches the required one."""
    sure: bool
    """The 95 % interval lies wholly on the side of ``passes``."""
    more_calls: int
    """Good calls still to be placed at this step before its passing is sure; 0 where it is sure or fails."""


@dataclass(frozen=True)
class Staircase:
    steps: tuple[Step, ...]
    sustained_calls: int | None
    """The highest step up to which all pass; None where no step was tried."""


def staircase(calls: Iterable[tuple[int, bool]], required_share_pct: float) -> Staircase:
    """From calls as (calls at once, whether acceptable). Order does not matter."""
    tried: dict[int, list[bool]] = {}
    for at_once, good in calls:
        tried.setdefault(at_once, []).append(good)
    steps = tuple(_step(n, tried[n], required_share_pct) for n in sorted(tried))
    sustained = None if not steps else 0
    for step in steps:
        if not step.passes:
            break
        sustained = step.calls_at_once
    return Staircase(steps, sustained)


def _step(at_once: int, goods: list[bool], required_share_pct: float) -> Step:
    share = wilson(sum(goods), len(goods))
    passes = share.pct is not None and share.pct >= required_share_pct
    sure = share.low_pct >= required_share_pct if passes else share.high_pct < required_share_pct
    more = 0 if sure or not passes else _good_calls_more(share, required_share_pct)
    return Step(at_once, share, passes, sure, more)


def _good_calls_more(share: Share, required_share_pct: float) -> int:
    low, high = 0, max(calls_to_claim(required_share_pct), 1)
    while wilson(share.good + high, share.calls + high).low_pct < required_share_pct:
        low, high = high, high * 2
    while high - low > 1:
        middle = (low + high) // 2
        if wilson(share.good + middle, share.calls + middle).low_pct < required_share_pct:
            low = middle
        else:
            high = middle
    return high
