"""Which route a call took, told by what its fastest packets needed: a longer way is neither a queue nor scatter.

A queue swells and drains within a call and drops packets when it is full; a route only takes longer. So a level is
read from quiet calls alone: little variation, next to no loss. Round trips are compared and not one-way delays, so
that an error of the clocks between the ends, which lengthens one direction and shortens the other, is no route.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.causes import Direction
from tarnfell.core.verdict.facts import CallFact
from tarnfell.core.verdict.moments import Moment

STEP_MS = 10.0
"""Two levels nearer than this are one route; the receiver's buffer (core/playout.py) goes by the same step."""
STEADY_MS = 5.0
"""Within which the fastest packets of one route stay, moment by moment."""
LEAST_MOMENTS = 3
"""Moments in a row at a new level before it is a route; fewer may be a queue that happened to stand still."""
QUIET_PDV_MS = 10.0
QUIET_LOSS_PCT = 0.5

Ends = tuple[int, int]
"""Probe and far end."""


@dataclass(frozen=True)
class Route:
    """One level of delay between two ends, from its first moment until the next one's."""

    since: Moment
    moments: int
    """That were measured at this level."""
    up_ms: float
    down_ms: float
    """Median one-way delay of its quiet calls."""

    @property
    def round_trip_ms(self) -> float:
        return self.up_ms + self.down_ms

    def delay_ms(self, direction: Direction) -> float:
        return self.up_ms if direction == "up" else self.down_ms


def routes_of(facts: Sequence[CallFact]) -> dict[Ends, list[Route]]:
    """The routes between each pair of ends in the order of time; pairs with a single one are left away."""
    quiet: dict[Ends, dict[Moment, list[tuple[float, float]]]] = {}
    for up, down in _pairs(facts):
        at = quiet.setdefault((up.probe_id, up.far_end_id), {}).setdefault(up.moments[0], [])
        at.append((_fastest(up), _fastest(down)))
    found = {ends: _routes(moments) for ends, moments in quiet.items()}
    return {ends: routes for ends, routes in found.items() if len(routes) > 1}


def route_at(routes: Sequence[Route], moment: Moment) -> Route:
    """The route that was in use at ``moment``; before the first one known, the first."""
    return next((route for route in reversed(routes) if route.since <= moment), routes[0])


def _pairs(facts: Sequence[CallFact]) -> list[tuple[CallFact, CallFact]]:
    """Both directions of each call in which nothing queued, in the order of time."""
    ups = {f.call_id: f for f in facts if f.direction == "up" and _quiet(f)}
    both = [(ups[f.call_id], f) for f in facts if f.direction == "down" and f.call_id in ups and _quiet(f)]
    return sorted(both, key=lambda pair: (pair[0].day, pair[0].minute))


def _quiet(fact: CallFact) -> bool:
    return (
        fact.outcome == "whole"
        and fact.delay_p50_ms is not None
        and fact.pdv_p95_ms is not None
        and fact.pdv_p95_ms <= QUIET_PDV_MS
        and (fact.loss_pct or 0.0) <= QUIET_LOSS_PCT
    )


def _fastest(fact: CallFact) -> float:
    return (fact.delay_p50_ms or 0.0) - (fact.pdv_p50_ms or 0.0)


def _routes(by_moment: dict[Moment, list[tuple[float, float]]]) -> list[Route]:
    moments = sorted(by_moment)
    fastest = [min(by_moment[m], key=sum) for m in moments]
    floors = [sum(pair) for pair in fastest]
    begins = [0]
    level = min(floors[:LEAST_MOMENTS], default=0.0)
    for i in range(len(floors) - LEAST_MOMENTS + 1):
        ahead = floors[i : i + LEAST_MOMENTS]
        if max(ahead) - min(ahead) <= STEADY_MS and abs(min(ahead) - level) > STEP_MS:
            level = min(ahead)
            begins.append(i)
    out = []
    for begin, end in zip(begins, [*begins[1:], len(moments)], strict=True):
        if begin < end:
            up, down = np.median(fastest[begin:end], axis=0).tolist()
            out.append(Route(moments[begin], end - begin, up, down))
    return out
