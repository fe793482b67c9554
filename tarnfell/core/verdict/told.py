"""Causes that a watch and a check tell of, joined to what calls have shown of the same.

Calls between two ends know no leg and no router; a watch knows legs and times, a check what is closed and what is
rewritten. Where both tell of one fault it is one cause: the calls say what it did, the watch or the check where it is.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.causes import FIREWALL, NETWORK, PROVIDER, ROUTER, CauseKey, LegName, Way
from tarnfell.core.verdict.case import SHOWN_CALLS, gain_of, way_of
from tarnfell.core.verdict.causes import Cause, Dimension, Pair, Shown
from tarnfell.core.verdict.facts import Brief
from tarnfell.core.verdict.moments import Moment
from tarnfell.core.verdict.readings import CallReading, Reading

Source = Literal["watch", "check"]
SOURCE_WORDS: dict[Source, str] = {"watch": "The watch", "check": "The check"}
OVERLAP = 0.5
"""Of the calls that a cause hit, so many must have met a fault's own times before it is taken for theirs."""

_QUEUES: frozenset[CauseKey] = frozenset({"uplink-queue", "downlink-queue", "delay-swings"})
_DOWN: frozenset[CauseKey] = frozenset({"line-down", "inside-down", "beyond-down"})
_SILENT: frozenset[CauseKey] = frozenset({"port-blocked", "udp-blocked", "one-way"})
_LOSS: frozenset[CauseKey] = frozenset({"line-loss"})
_PICTURES: frozenset[CauseKey] = frozenset({"pictures-break"})
EXPLAINS: dict[CauseKey, frozenset[CauseKey]] = {
    "inside-congested": _QUEUES,
    "beyond-congested": _QUEUES,
    "delay-swings": _QUEUES,
    "uplink-queue": frozenset({"uplink-queue"}),
    "downlink-queue": frozenset({"downlink-queue"}),
    "inside-cable": _LOSS,
    "inside-radio": _LOSS,
    "line-loss": _LOSS,
    "beyond-loss": _LOSS,
    "inside-down": _DOWN,
    "line-down": _DOWN,
    "beyond-down": _DOWN,
    "large-packets-lost": _PICTURES,
    "mtu-hole": _PICTURES,
    "marking-changed": frozenset({"marking-changed"}),
    "port-blocked": _SILENT,
    "udp-blocked": _SILENT,
    "one-way": _SILENT,
}
"""What calls can show of each; a key that is not here is told for itself."""
CLOSED: frozenset[CauseKey] = _SILENT | {"service-silent", "service-tampered"}
"""Of a check: what calls or meetings need is closed, or not what it should be."""
NOT_TOLD: frozenset[CauseKey] = frozenset({"evidence-short", "route-changed", "hop-slow", "echo-muted"})
"""No faults, or nothing that anybody could act on."""


@dataclass(frozen=True)
class Told:
    source: Source
    when: str
    """As it is told: over which days, or at what time."""
    key: CauseKey
    leg: LegName
    direction: Way
    title: str
    says: str
    remedy: str
    who: str
    """One of core/causes.py's."""
    moments: frozenset[Moment] = frozenset()
    """The site's own ten minutes that it lasted; empty where it is of no time in particular."""

    @property
    def sentence(self) -> str:
        return f"{SOURCE_WORDS[self.source]} ({self.when}): {self.says}"


def join(
    causes: Sequence[Cause],
    told: Sequence[Told],
    readings: Sequence[Reading],
    calls: Sequence[CallReading],
    brief: Brief,
) -> list[Cause]:
    """Each told fault joined to the causes that it explains, in the place of the first of them; else behind them."""
    found = list(causes)
    moments = {c.call_id: frozenset(c.moments) for c in calls}
    for one in told:
        if one.key in NOT_TOLD:
            continue
        same = [i for i, cause in enumerate(found) if _is_same(one, cause, moments)]
        if not same:
            found.append(_own(one, readings, calls, brief))
            continue
        found[same[0]] = _joined(one, [found[i] for i in same], readings, calls, brief)
        found = [cause for i, cause in enumerate(found) if i not in same[1:]]
    return found


def _is_same(one: Told, cause: Cause, moments: Mapping[int, frozenset[Moment]]) -> bool:
    if cause.key not in EXPLAINS.get(one.key, frozenset()) or not _legs_agree(one.leg, cause.leg):
        return False
    if cause.direction != "both" and one.direction not in ("both", cause.direction):
        return False
    hit = {call for call, _ in _bad(cause)}
    if not one.moments or not hit:
        return True
    return sum(bool(moments.get(call, frozenset()) & one.moments) for call in hit) >= OVERLAP * len(hit)


def _legs_agree(told: LegName, known: LegName) -> bool:
    """What calls know of the leg, where they know anything, must not speak against it."""
    if known == "unknown" or told in (known, "unknown"):
        return True
    return known == "inside or line" and told in ("inside", "line")


def _joined(
    one: Told, same: Sequence[Cause], readings: Sequence[Reading], calls: Sequence[CallReading], brief: Brief
) -> Cause:
    bad = frozenset[Pair]().union(*(_bad(cause) for cause in same))
    first = same[0]
    cost: dict[Dimension, float] = {}
    for cause in same:
        for dimension, part in cause.cost.items():
            cost[dimension] = cost.get(dimension, 0.0) + part
    ways = {way for cause in same for way in (("up", "down") if cause.direction == "both" else (cause.direction,))}
    hit = {call for call, _ in bad}
    met = frozenset[Moment]().union(*(c.moments for c in calls if c.call_id in hit))
    cost = _unsteady(one, met, cost)
    shown = [call for rank in zip(*(c.call_ids for c in same), strict=False) for call in rank] + list(first.call_ids)
    return Cause(
        key=one.key,
        leg=one.leg if one.leg != "unknown" else first.leg,
        direction=way_of(ways),
        title=one.title,
        says=(*(says for cause in same for says in cause.says), one.sentence),
        alternatives=tuple(dict.fromkeys(told for cause in same for told in cause.alternatives)),
        remedy=one.remedy,
        who=named(one.who, brief),
        gain=gain_of(bad, readings, calls) if len(same) > 1 and bad else first.gain,
        calls_hit=len(hit) or first.calls_hit,
        calls=max(cause.calls for cause in same),
        cost=cost,
        of=first.of,
        call_ids=tuple(dict.fromkeys(shown))[:SHOWN_CALLS],
        stream_ids=first.stream_ids,
    )


def _bad(cause: Cause) -> frozenset[Pair]:
    """What it hit of calls; nothing where it is of something else."""
    return cause.bad if isinstance(cause, Shown) else frozenset()


def _own(one: Told, readings: Sequence[Reading], calls: Sequence[CallReading], brief: Brief) -> Cause:
    """A fault that no cause of calls tells of."""
    meanwhile = [c for c in calls if one.moments & frozenset(c.moments)]
    bad = [c for c in meanwhile if c.good is False]
    says = [one.sentence]
    if one.moments:
        placed = f"{len(bad)} of {len(meanwhile)} calls placed in these ten-minute moments missed the brief."
        says.append(placed if meanwhile else "No call was placed in its times, so that none was lost to it.")
    hit = {c.call_id for c in bad}
    closed_cost: dict[Dimension, float] = {"reachability": 1.0} if one.source == "check" and one.key in CLOSED else {}
    pairs = frozenset((r.fact.call_id, r.fact.direction) for r in readings if r.good is False and r.fact.call_id in hit)
    return Cause(
        one.key,
        one.leg,
        one.direction,
        one.title,
        tuple(says),
        (),
        one.remedy,
        named(one.who, brief),
        gain=gain_of(pairs, readings, calls) if pairs else "What it buys is not measured by calls.",
        calls_hit=len(bad),
        calls=len(meanwhile),
        cost=_unsteady(one, frozenset(moment for c in bad for moment in c.moments), closed_cost),
        call_ids=tuple(c.call_id for c in bad if c.call_id > 0)[:SHOWN_CALLS],
    )


def _unsteady(one: Told, met: frozenset[Moment], cost: dict[Dimension, float]) -> dict[Dimension, float]:
    """``cost``, and of its moments those that no call has met: a call that was bad in one has told what it took."""
    alone = len(one.moments - met)
    return cost | {"steadiness": cost.get("steadiness", 0.0) + alone} if alone else cost


def named(who: str, brief: Brief) -> str:
    """Who acts, by the names in the brief where there are any."""
    names = {
        NETWORK: brief.switches_by,
        ROUTER: brief.switches_by,
        PROVIDER: brief.line_by,
        FIREWALL: brief.firewall_by,
    }
    told = [names.get(part) or part for part in who.split(", then ")]
    return ", then ".join(dict.fromkeys(told))


def closed(told: Sequence[Told]) -> list[Told]:
    """What a check found closed of what calls and meetings need."""
    return [one for one in told if one.source == "check" and one.key in CLOSED]
