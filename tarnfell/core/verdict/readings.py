"""Each fact held against the brief: which bounds it missed or leaves open, by how far, and what spoiled it.

Acceptable is a yes or no, and the share that a brief requires counts it. Worth is the same judged without a cliff:
1 where every bound is kept, falling evenly to 0 at a stated distance beyond the bound missed most. Points follow worth.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np

from tarnfell.core import emodel
from tarnfell.core.causes import Direction
from tarnfell.core.targets import BOUNDS, Bound, Targets, judge_bounds
from tarnfell.core.verdict.facts import MIN_CALL_S, Brief, CallFact, VideoFact
from tarnfell.core.verdict.moments import Moment, Tally, tally
from tarnfell.core.verdict.routes import STEP_MS, Ends, Route, route_at, routes_of


class Trouble(Enum):
    """The one thing that most explains an unacceptable direction of a call."""

    DOWN = "down"
    SILENT = "silent"
    QUEUE = "queue"
    LOSS = "loss"
    LATE = "late"
    FAR = "far"
    DETOUR = "detour"


SMOOTH_SHARE = 8.0
"""Delay that swings this many times as far as the jitter between neighbours is a queue, not scatter."""
STANDING_QUEUE_MS = 40.0
"""Median delay this far above the idle one means a queue that stays, not a passing burst."""
MARKING_KEPT_PCT = 99.0
"""Share of a direction's packets from which on their marking is taken to arrive as sent."""
WORTHLESS_MOS = 0.5
"""MOS below the target at which a call is worth nothing."""
WORTHLESS_STRETCH_MOS = 1.0
"""The same for the worst ten seconds, which swing further."""
WORTHLESS_FACTOR = 1.0
"""Beyond another bound, as a part of the bound, at which a call is worth nothing."""


@dataclass(frozen=True, slots=True)
class Reading:
    """A fact with what it means."""

    fact: CallFact
    missed: tuple[str, ...]
    """Keys of the bounds that were not kept."""
    open: tuple[str, ...]
    """Keys of the bounds that cannot be judged, its delay being unknown."""
    worth: float
    added_ms: float | None
    """Median delay above the idle one of the same route and direction."""
    trouble: Trouble | None
    detour_ms: float = 0.0
    """How much longer its route was than the shortest between the same ends, in this direction."""

    @property
    def mos(self) -> float:
        """What the user of this direction had: 1 where nothing was heard or the call was cut or not placed."""
        broken = self.trouble in (Trouble.DOWN, Trouble.SILENT)
        return 1.0 if broken or self.fact.mos is None else self.fact.mos

    @property
    def good(self) -> bool | None:
        """None where what is known is within every bound but a bound is open."""
        if self.trouble is not None:
            return False
        return None if self.open else True


def countable(fact: CallFact) -> bool:
    """Whether it counts as evidence; what is left out is told by number."""
    return not fact.tainted and (fact.outcome != "whole" or fact.seconds >= MIN_CALL_S)


def read(facts: Iterable[CallFact], brief: Brief) -> list[Reading]:
    """Each fact that counts, against the brief and the idle delay of its own route and direction."""
    usable = [f for f in facts if countable(f)]
    routes = routes_of(usable)
    on = [_route(f, routes) for f in usable]
    ways = [_way(f, route) for f, route in zip(usable, on, strict=True)]
    delays: dict[_Way, list[float]] = {}
    for f, way in zip(usable, ways, strict=True):
        if f.delay_p50_ms is not None:
            delays.setdefault(way, []).append(f.delay_p50_ms)
    idle = {way: float(np.percentile(found, 10)) for way, found in delays.items()}
    return [
        _read(f, idle.get(way), _detour_ms(f, route, routes), brief)
        for f, way, route in zip(usable, ways, on, strict=True)
    ]


_Way = tuple[int, int, Direction, Moment | None]


def _way(fact: CallFact, route: Route | None) -> _Way:
    return fact.probe_id, fact.far_end_id, fact.direction, route.since if route else None


def _route(fact: CallFact, routes: dict[Ends, list[Route]]) -> Route | None:
    """None where only one route was seen."""
    known = routes.get((fact.probe_id, fact.far_end_id))
    return route_at(known, fact.moments[0]) if known else None


def _detour_ms(fact: CallFact, route: Route | None, routes: dict[Ends, list[Route]]) -> float:
    if route is None:
        return 0.0
    shortest = min(routes[fact.probe_id, fact.far_end_id], key=lambda r: r.round_trip_ms)
    return max(0.0, route.delay_ms(fact.direction) - shortest.delay_ms(fact.direction))


def _read(fact: CallFact, idle_ms: float | None, detour_ms: float, brief: Brief) -> Reading:
    added = None if fact.delay_p50_ms is None or idle_ms is None else max(0.0, fact.delay_p50_ms - idle_ms)
    if fact.outcome != "whole":
        return Reading(fact, (), (), 0.0, added, Trouble.DOWN)
    if fact.silent:
        return Reading(fact, ("target_mos",), (), 0.0, added, Trouble.SILENT)
    judged = judge_bounds(
        brief,
        mos=fact.mos,
        mouth_to_ear_ms=fact.mouth_to_ear_ms,
        loss_pct=fact.loss_pct,
        pdv_p99_ms=fact.pdv_p99_ms,
        worst_stretch_mos=fact.worst_stretch_mos,
    )
    worths = {key: _worth(brief, key, value) for key, value in judged.missed.items()}
    if not worths:
        return Reading(fact, (), judged.open, 1.0, added, None)
    worst = min(worths, key=lambda key: worths[key])
    trouble = _trouble(fact, added, worst, brief)
    if trouble is Trouble.FAR and detour_ms > STEP_MS:
        trouble = Trouble.DETOUR
    return Reading(fact, tuple(worths), judged.open, worths[worst], added, trouble, detour_ms)


def _worth(brief: Targets, key: str, value: float) -> float:
    if key == "target_mos":
        beyond = (brief.target_mos - value) / WORTHLESS_MOS
    elif key == "min_stretch_mos":
        beyond = ((brief.min_stretch_mos or 0.0) - value) / WORTHLESS_STRETCH_MOS
    else:
        bound = float(getattr(brief, key))
        # A bound of no loss at all is missed wholly by one percent.
        beyond = (value - bound) / (WORTHLESS_FACTOR * bound or 1.0)
    return max(0.0, 1.0 - beyond)


def standing_ms(fact: CallFact, added: float | None) -> float:
    """How much delay a queue held during this call: above the idle state, or grown within the call.

    A queue swells and drains over many packets, so delay varies widely while neighbours differ little.
    """
    return max(added or 0.0, fact.pdv_p50_ms or 0.0, _swelling_ms(fact))


def _swelling_ms(fact: CallFact) -> float:
    swing = fact.pdv_p95_ms or 0.0
    return swing if fact.jitter_ms <= swing / SMOOTH_SHARE else 0.0


def _trouble(fact: CallFact, added: float | None, bound: str, brief: Brief) -> Trouble:
    """What made the call miss ``bound``, the one it missed by most."""
    queue = standing_ms(fact, added)
    if bound == "max_loss_pct":
        return Trouble.QUEUE if queue >= STANDING_QUEUE_MS else Trouble.LOSS
    if bound == "max_variation_ms":
        return Trouble.QUEUE if max(_swelling_ms(fact), added or 0.0) >= STANDING_QUEUE_MS else Trouble.LATE
    if bound == "max_delay_ms":
        assert brief.max_delay_ms is not None
        without = (fact.mouth_to_ear_ms or 0.0) - queue
        return Trouble.QUEUE if queue >= STANDING_QUEUE_MS or without <= brief.max_delay_ms else Trouble.FAR
    if bound == "min_stretch_mos" and queue < STANDING_QUEUE_MS:
        # Delay is the same in every stretch of a call: what makes one worse is what was missing in it.
        return Trouble.LOSS if (fact.loss_pct or 0.0) >= (fact.late_pct or 0.0) else Trouble.LATE
    return _dominant(fact, queue)


def _dominant(fact: CallFact, queue: float) -> Trouble:
    """Which impairment costs most of R: delay by Idd, loss and lateness by their parts of Ie,eff (G.107 §7.4, 7.5)."""
    loss, late = fact.loss_pct or 0.0, fact.late_pct or 0.0
    delay_r = float(emodel.pure_delay(fact.mouth_to_ear_ms or 0.0))
    missed_r = float(emodel.equipment_impairment(loss + late, fact.burst_ratio, fact.ie, fact.bpl)) - fact.ie
    if queue >= STANDING_QUEUE_MS:
        return Trouble.QUEUE
    if delay_r >= missed_r:
        return Trouble.FAR
    return Trouble.LOSS if loss >= late else Trouble.LATE


@dataclass(frozen=True, slots=True)
class CallReading:
    """Both directions of one call together: a call is good when each direction is."""

    call_id: int
    run_id: int
    moments: tuple[Moment, ...]
    busy: bool
    concurrent: int
    good: bool | None
    """None: no bound is missed for certain, but one is open."""
    worth: float
    mos: float
    """Of the worse direction."""
    silent: bool
    down: bool
    """Cut, or not placed at all."""


def by_call(readings: Iterable[Reading]) -> list[CallReading]:
    """The calls that were placed both ways, in the order of their numbers."""
    pairs: dict[int, list[Reading]] = {}
    for reading in readings:
        if not reading.fact.one_way:
            pairs.setdefault(reading.fact.call_id, []).append(reading)
    return [_call(both) for _, both in sorted(pairs.items())]


def _call(both: list[Reading]) -> CallReading:
    fact = both[0].fact
    goods = [r.good for r in both]
    return CallReading(
        call_id=fact.call_id,
        run_id=fact.run_id,
        moments=fact.moments,
        busy=fact.busy,
        concurrent=fact.concurrent,
        good=False if False in goods else None if None in goods else True,
        worth=min(r.worth for r in both),
        mos=min(r.mos for r in both),
        silent=any(r.trouble is Trouble.SILENT for r in both),
        down=any(r.trouble is Trouble.DOWN for r in both),
    )


def tally_calls(calls: Iterable[CallReading]) -> dict[Moment, Tally]:
    """Calls into their moments; what is open counts neither way."""
    return tally((c.moments, c.good, c.worth) for c in calls if c.good is not None)


@dataclass(frozen=True)
class KeptBound:
    """One bound beside the MOS, over the directions of calls of which its measure is known."""

    bound: Bound
    asked: float
    kept: int
    known: int
    unknown: int
    """Directions that carried media and of which the measure is not known."""
    p95: float | None
    """95th percentile of the measure."""


def kept_bounds(readings: Sequence[Reading], brief: Targets) -> tuple[KeptBound, ...]:
    """Every bound that is asked, in the order of the brief."""
    found = []
    for bound in BOUNDS:
        measure = MEASURES.get(bound.key)
        asked = getattr(brief, bound.key)
        if measure is None or asked is None:
            continue
        received = [r for r in readings if r.fact.received > 0]
        values = [v for r in received if (v := getattr(r.fact, measure)) is not None]
        kept = sum(v <= asked for v in values)
        p95 = float(np.percentile(values, 95)) if values else None
        found.append(KeptBound(bound, asked, kept, len(values), len(received) - len(values), p95))
    return tuple(found)


MEASURES = {"max_delay_ms": "mouth_to_ear_ms", "max_loss_pct": "loss_pct", "max_variation_ms": "pdv_p99_ms"}


def good_picture(score: float | None, brief: Targets) -> bool:
    return score is not None and score >= brief.target_picture


def tally_streams(facts: Iterable[VideoFact], brief: Targets) -> dict[Moment, Tally]:
    """Video streams that were placed both ways into their moments; one is good when each direction is."""
    streams: dict[int, list[VideoFact]] = {}
    for fact in facts:
        if not fact.tainted and not fact.one_way and fact.seconds >= MIN_CALL_S:
            streams.setdefault(fact.stream_id, []).append(fact)
    return tally(
        (both[0].moments, all(good_picture(f.score, brief) for f in both), min(_picture_worth(f, brief) for f in both))
        for both in streams.values()
    )


def _picture_worth(fact: VideoFact, brief: Targets) -> float:
    beyond = brief.target_picture - (fact.score if fact.score is not None else 1.0)
    return min(1.0, max(0.0, 1.0 - beyond))
