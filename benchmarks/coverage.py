"""How often the intervals of judging hold the truth, on simulated networks: the tables of docs/method.md.

``python -m benchmarks coverage`` makes them. A network here is a share of acceptable calls that varies from moment to
moment (beta-distributed with intra-class correlation rho), and, for bad days, from day to day as well.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.verdict.moments import interval

SIMULATIONS = 400
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Made:
    """Shares of good calls, shape (simulations, moments), the day of each moment, and calls in all."""

    shares: Floats
    days: NDArray[np.int64]
    calls: int
    truth: Floats
    """Share over the days watched, shape (simulations,)."""


def network(moments: int, calls: int, rho: float, p: float, count: int = SIMULATIONS) -> Made:
    """Moments alike, on up to seven days."""
    rng = np.random.default_rng([moments, calls, round(rho * 100), round(p * 1000)])
    days = np.arange(moments) * min(7, max(1, moments // 6)) // moments
    return _made(rng, np.full((count, moments), p), days, calls, rho, np.full(count, p))


def bad_days(days: int, moments_a_day: int, rho_day: float, p: float, count: int = SIMULATIONS) -> Made:
    """Days that differ; five calls a moment, correlated by 0.2 within it."""
    rng = np.random.default_rng([days, moments_a_day, round(rho_day * 100), round(p * 1000)])
    of_day = _beta(rng, np.full((count, days), p), rho_day)
    number = np.arange(days * moments_a_day) // moments_a_day
    return _made(rng, of_day[:, number], number, 5, 0.2, of_day.mean(axis=1))


def _made(rng: np.random.Generator, p: Floats, days: NDArray[np.int64], calls: int, rho: float, truth: Floats) -> Made:
    good = rng.binomial(calls, np.clip(_beta(rng, p, rho), 0, 1))
    return Made(good / calls, days, calls * p.shape[1], truth)


def _beta(rng: np.random.Generator, p: Floats, rho: float) -> Floats:
    """Shares around ``p`` with intra-class correlation ``rho``; 1 is wholly good or wholly bad."""
    if rho <= 0:
        return p
    if rho >= 1:
        return (rng.random(p.shape) < p).astype(float)
    spread = 1 / rho - 1
    return rng.beta(np.maximum(p * spread, 1e-9), np.maximum((1 - p) * spread, 1e-9))


def coverage(made: Made, truth: float | Floats, ends: Literal["both", "low"] = "both") -> float:
    """The part of the simulations whose interval, or whose lower end alone, holds ``truth``."""
    target = np.broadcast_to(truth, len(made.shares))
    held = 0
    for shares, wanted in zip(made.shares, target, strict=True):
        bad = np.bincount(made.days, weights=1 - shares).astype(np.float64)
        low, high = interval(shares, made.calls, bad[bad > 0])
        held += low - 1e-12 <= wanted and (ends == "low" or wanted <= high + 1e-12)
    return held / len(made.shares)


def report() -> str:
    """Both tables, for docs/performance.md; docs/method.md repeats them beside the method."""
    p_values, rhos = (0.9, 0.95, 0.97, 0.99, 0.999), (0, 0.05, 0.2, 0.5, 1)
    lines = [
        "## Coverage of the 95 % interval",
        "",
        "Least over shares of 0.90, 0.95, 0.97, 0.99 and 0.999, in percent of 2000 simulations.",
        "",
        "| moments | calls each | " + " | ".join(f"ρ {rho}" for rho in rhos) + " |",
        "|" + "---:|" * (len(rhos) + 2),
    ]
    for moments in (1, 3, 10, 30, 100, 300):
        for calls in (1, 10, 100):
            row = [min(coverage(network(moments, calls, rho, p, 2000), p) for p in p_values) for rho in rhos]
            lines.append(f"| {moments} | {calls} | " + " | ".join(f"{100 * one:.1f}" for one in row) + " |")
    lines += [
        "",
        "With days that differ (60 moments a day): how often the interval holds the share over the days watched, and "
        "how often the lower end, on which a claim rests, holds the share over all days there are.",
        "",
        "| days | ρ of days | share 0.90 | share 0.97 | share 0.99 |",
        "|---:|---:|---:|---:|---:|",
    ]
    for days in (2, 7, 14, 30):
        for rho_day in (0.02, 0.1, 0.3):
            cells = []
            for p in (0.9, 0.97, 0.99):
                made = bad_days(days, 60, rho_day, p, 1000)
                cells.append(f"{100 * coverage(made, made.truth):.1f}, {100 * coverage(made, p, 'low'):.1f}")
            lines.append(f"| {days} | {rho_day} | " + " | ".join(cells) + " |")
    return "\n".join(lines)
