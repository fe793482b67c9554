"""One trouble among a site's readings: what it hit, what it cost, and what other ways met in the same moments.

Calls between one probe and one far end cannot tell a leg. A second far end or test point measured in the same moments
can: what spares it lies beyond, or before, the point where the ways part (`Comparison`). Whether trouble follows the
number of concurrent calls is read from the loads tried (`own_load`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.verdict.causes import Dimension, Pair, Shown
from tarnfell.core.verdict.facts import Brief, CallFact
from tarnfell.core.verdict.moments import Moment
from tarnfell.core.verdict.readings import CallReading, Reading

SHOWN_CALLS = 3
SPARED = 0.8
"""Of the moments compared, in which the other way must agree before a leg is told."""
MIN_COMPARED = 3
OWN_LOAD_BAD = 0.5
OWN_LOAD_CLEAR = 0.05
"""Trouble follows the calls' own load where at least half the calls of a load suffer and at most a twentieth below."""
OWN_LOAD_CALLS = 8
"""Fewest calls on each side of that comparison."""
OWN_LOAD_CHANCE = 0.05
"""Calls of one run share its moment: that so many runs suffer by chance must be no likelier."""

_At = tuple[int, int, Moment]
"""Probe, far end and moment."""


@dataclass(frozen=True)
class Comparison:
    """What other ways met in the very moments in which this one was bad."""

    leg: LegName
    says: tuple[str, ...]


@dataclass(frozen=True)
class Case:
    """The readings one trouble spoils, in one direction or both, among all of the site."""

    direction: Way
    bad: list[Reading]
    same: list[Reading]
    """All readings of the direction or directions."""
    site: list[Reading]
    calls: list[CallReading]
    brief: Brief

    @property
    def hit(self) -> int:
        return len({r.fact.call_id for r in self.bad})

    @property
    def total(self) -> int:
        return len({r.fact.call_id for r in self.same})

    @property
    def of(self) -> str:
        return f"{self.hit} of {self.total} calls"

    @property
    def by_radio(self) -> bool:
        """Whether every call that suffered was taken by a probe on a radio link."""
        return all(r.fact.wireless for r in self.bad)

    def cause(
        self,
        key: CauseKey,
        leg: LegName,
        title: str,
        says: Sequence[str],
        alternatives: Sequence[str],
        remedy: str,
        who: str,
        dimensions: Sequence[Dimension] = ("voice", "steadiness"),
        gain: str | None = None,
        open_legs: str = "",
    ) -> Shown:
        cost = sum(1.0 - r.worth for r in self.bad)
        costs: dict[Dimension, float] = dict.fromkeys(dimensions, cost)
        if "voice" in costs:
            concurrent = sum(1.0 - r.worth for r in self.bad if r.fact.concurrent > 1)
            if concurrent:
                costs["capacity"] = concurrent
        worst = sorted(self.bad, key=lambda r: (r.worth, r.fact.mos if r.fact.mos is not None else 0.0))
        return Shown(
            key=key,
            leg=leg,
            direction=self.direction,
            title=title,
            says=tuple(says),
            alternatives=tuple(alternatives),
            remedy=remedy,
            who=who,
            gain=gain_of(self._bad(), self.site, self.calls) if gain is None else gain,
            calls_hit=self.hit,
            calls=self.total,
            cost=costs,
            call_ids=tuple(dict.fromkeys(r.fact.call_id for r in worst if r.fact.call_id > 0))[:SHOWN_CALLS],
            open_legs=open_legs,
            bad=self._bad(),
        )

    def _bad(self) -> frozenset[Pair]:
        return frozenset((r.fact.call_id, r.fact.direction) for r in self.bad)

    def compared(self) -> Comparison:
        """The leg, as far as other far ends and test points measured in the same moments tell it."""
        moments = {(r.fact.probe_id, r.fact.far_end_id, m) for r in self.bad for m in r.fact.moments}
        far = self._others(moments, lambda f, p, e: f.probe_id == p and f.far_end_id != e)
        near = self._others(moments, lambda f, p, e: f.probe_id != p and f.far_end_id == e)
        says = []
        leg: LegName = "unknown"
        if len(near) >= MIN_COMPARED:
            spared = sum(near.values())
            says.append(
                f"Another test point, measured in {len(near)} of the same ten-minute moments, was spared in {spared}."
            )
            if spared >= SPARED * len(near):
                leg = "inside"
        if len(far) >= MIN_COMPARED:
            spared = sum(far.values())
            says.append(
                f"Another far end, measured in {len(far)} of the same ten-minute moments, was spared in {spared}."
            )
            if spared >= SPARED * len(far):
                leg = "beyond" if leg == "unknown" else "unknown"
            elif spared <= (1 - SPARED) * len(far) and leg == "unknown":
                leg = "inside or line"
        return Comparison(leg, tuple(says))

    def _others(self, moments: set[_At], is_other: Callable[[CallFact, int, int], bool]) -> dict[_At, bool]:
        """Of the other ways: each bad moment in which they were measured, and whether they were spared."""
        found: dict[_At, bool] = {}
        by_moment: dict[Moment, list[Reading]] = {}
        for r in self.site:
            if self.direction in ("both", r.fact.direction):
                for m in r.fact.moments:
                    by_moment.setdefault(m, []).append(r)
        for probe, far_end, m in moments:
            others = [r for r in by_moment.get(m, []) if is_other(r.fact, probe, far_end)]
            if others:
                found[(probe, far_end, m)] = all(r.good is not False for r in others)
        return found


def gain_of(bad: frozenset[Pair], site: Sequence[Reading], calls: Sequence[CallReading]) -> str:
    """How the share of acceptable calls would stand had these directions been good, all else as it was."""
    otherwise = {r.fact.call_id for r in site if r.good is False and (r.fact.call_id, r.fact.direction) not in bad}
    saved = len({call for call, _ in bad} - otherwise)
    known = [c for c in calls if c.good is not None]
    good, total = sum(bool(c.good) for c in known), max(1, len(known))
    return (
        f"{100 * good / total:.1f} % of calls acceptable now, {100 * min(total, good + saved) / total:.1f} % "
        f"without it: {saved} of {total} calls."
    )


def own_load(case: Case) -> tuple[int, str] | None:
    """The load from which on calls suffer while below it they do not, and the figures in words; None: no such load, or
    it may be chance: trouble of its own times hits a run as a whole, and a few runs of more calls may have met it."""
    bad_ids = {id(r) for r in case.bad}
    runs: dict[int, list[bool]] = {}
    loads: dict[int, int] = {}
    for r in case.same:
        runs.setdefault(r.fact.run_id, []).append(id(r) in bad_ids)
        loads[r.fact.run_id] = r.fact.concurrent
    for n in sorted(set(loads.values()))[1:]:
        at, below = ([runs[run] for run, load in loads.items() if (load >= n) == side] for side in (True, False))
        bad_at, bad_below = (sum(map(sum, side)) for side in (at, below))
        all_at, all_below = (sum(map(len, side)) for side in (at, below))
        if min(all_at, all_below) < OWN_LOAD_CALLS:
            continue
        if bad_at < OWN_LOAD_BAD * all_at or bad_below > OWN_LOAD_CLEAR * all_below:
            continue
        if _chance(at, below) <= OWN_LOAD_CHANCE:
            return n, f"{bad_at} of {all_at} at {n} or more concurrent calls, {bad_below} of {all_below} below."
    return None


def _chance(at: Sequence[Sequence[bool]], below: Sequence[Sequence[bool]]) -> float:
    """That so many runs at the load suffer, did they suffer as often as runs below it (binomial, one unseen run of
    each kind allowed for below)."""
    from scipy.special import bdtrc  # loaded late, as in moments

    suffered_at, suffered_below = (sum(sum(run) >= len(run) / 2 for run in side) for side in (at, below))
    often = (suffered_below + 1) / (len(below) + 2)
    return float(bdtrc(suffered_at - 1.0, len(at), often))


def way_of(directions: set[str]) -> Way:
    return "both" if len(directions) == 2 else "up" if "up" in directions else "down"


def in_words(way: Way) -> str:
    return {"up": "on upload", "down": "on download", "both": "both ways"}[way]
