"""What many calls say together: each call's direction as one fact, and the first reading of it.

A fact is small and already judged; findings and verdict are computed from
facts and never look at packets again.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from tarnfell.core.targets import BOUNDS, Bound, Targets, missed


@dataclass(frozen=True, kw_only=True)
class Brief(Targets):
    """What the site must carry: calls at once, what makes one acceptable, and how much evidence is asked for."""

    needed_calls: int
    video: bool = False
    """Whether it must carry video as well."""


@dataclass(frozen=True)
class CallFact:
    """One direction of one call. Times are the site's own."""

    call_id: int
    run_id: int
    direction: str
    day: str
    """ISO date at the site."""
    minute: int
    """Of the site's day, 0…1439."""
    busy: bool
    """Within the site's business hours."""
    concurrent: int
    """Calls held at once in its run."""
    sent: int
    received: int
    loss_pct: float
    late_pct: float
    burst_ratio: float
    mos: float | None
    delay_p50_ms: float | None
    mouth_to_ear_ms: float | None
    pdv_p50_ms: float | None
    pdv_p95_ms: float | None
    pdv_p99_ms: float | None
    jitter_ms: float
    dscp_sent: int
    dscp_kept_pct: float | None
    tainted: bool
    one_way: bool = False
    """Placed in this direction alone: it tells of the way, not of a whole call."""


@dataclass(frozen=True)
class VideoFact:
    """One direction of one video stream. Times are the site's own."""

    stream_id: int
    run_id: int
    direction: str
    day: str
    minute: int
    busy: bool
    frames: int
    whole: int
    lost: int
    late: int
    freezes: int
    frozen_ms: float
    worst_second_fps: int | None
    score: float | None
    """None where nothing was sent."""
    tainted: bool
    one_way: bool = False


def good_picture(score: float | None, brief: Targets) -> bool:
    return score is not None and score >= brief.target_picture


def good_streams(facts: list[VideoFact], brief: Targets) -> tuple[int, int]:
    """Streams that were good both ways, of those measured both ways. Tainted ones are left out."""
    streams: dict[int, bool] = {}
    for fact in facts:
        if not fact.tainted and not fact.one_way:
            good = good_picture(fact.score, brief)
            streams[fact.stream_id] = streams.get(fact.stream_id, True) and good
    return sum(streams.values()), len(streams)


class Trouble(Enum):
    """The one thing that most explains an unacceptable direction of a call."""

    SILENT = "silent"
    QUEUE = "queue"
    LOSS = "loss"
    LATE = "late"
    DELAY = "delay"


SMOOTH_SHARE = 8.0
"""Delay that swings this many times as far as the jitter between neighbours is a queue, not scatter."""

STANDING_QUEUE_MS = 40.0
"""Median delay this far above the quiet one means a queue that stays, not a passing burst."""


@dataclass(frozen=True)
class Reading:
    """A fact with what it means: whether it met the target and, if not, why."""

    fact: CallFact
    good: bool
    added_ms: float | None
    """Median delay above the quiet median of the same direction."""
    trouble: Trouble | None


def read(facts: list[CallFact], brief: Brief) -> list[Reading]:
    """Each fact against the brief and against the quiet state of its direction. Tainted facts are left out."""
    usable = [f for f in facts if not f.tainted]
    quiet = {d: quiet_delay_ms([f for f in usable if f.direction == d]) for d in ("up", "down")}
    return [_read(f, quiet.get(f.direction), brief) for f in usable]


def quiet_delay_ms(facts: list[CallFact]) -> float | None:
    """The delay of this direction when nothing disturbs it: lowest tenth of the calls' median delays."""
    delays = [f.delay_p50_ms for f in facts if f.delay_p50_ms is not None]
    return float(np.percentile(delays, 10)) if delays else None


def _read(fact: CallFact, quiet: float | None, brief: Brief) -> Reading:
    good = not missed(
        brief,
        mos=fact.mos,
        mouth_to_ear_ms=fact.mouth_to_ear_ms,
        loss_pct=fact.loss_pct,
        pdv_p99_ms=fact.pdv_p99_ms,
    )
    added = None if fact.delay_p50_ms is None or quiet is None else max(0.0, fact.delay_p50_ms - quiet)
    return Reading(fact, good, added, None if good else _trouble(fact, added))


def standing_ms(fact: CallFact, added: float | None) -> float:
    """How much delay a queue held during this call: above the quiet state, or grown within the call.

    A queue swells and drains over many packets, so delay varies widely while neighbours differ little.
    """
    swing = fact.pdv_p95_ms or 0.0
    swelling = swing if fact.jitter_ms <= swing / SMOOTH_SHARE else 0.0
    return max(added or 0.0, fact.pdv_p50_ms or 0.0, swelling)


def _trouble(fact: CallFact, added: float | None) -> Trouble:
    if fact.received == 0:
        return Trouble.SILENT
    if standing_ms(fact, added) >= STANDING_QUEUE_MS:
        return Trouble.QUEUE
    if fact.loss_pct >= fact.late_pct and fact.loss_pct > 0:
        return Trouble.LOSS
    if fact.late_pct > 0:
        return Trouble.LATE
    return Trouble.DELAY


@dataclass(frozen=True)
class KeptBound:
    """One bound beside the MOS, over the directions of calls of which its measure is known."""

    bound: Bound
    asked: float
    kept: int
    known: int
    p95: float
    """95th percentile of the measure."""


def kept_bounds(readings: list[Reading], brief: Targets) -> tuple[KeptBound, ...]:
    """Every bound that is asked and of which something is known, in the order of the brief."""
    found = []
    for bound in BOUNDS:
        measure = _MEASURES.get(bound.key)
        asked = getattr(brief, bound.key)
        if measure is None or asked is None:
            continue
        values = [v for r in readings if (v := getattr(r.fact, measure)) is not None]
        if values:
            kept = sum(v <= asked for v in values)
            found.append(KeptBound(bound, asked, kept, len(values), float(np.percentile(values, 95))))
    return tuple(found)


_MEASURES = {"max_delay_ms": "mouth_to_ear_ms", "max_loss_pct": "loss_pct", "max_variation_ms": "pdv_p99_ms"}


@dataclass(frozen=True)
class CallReading:
    """Both directions of one call together: a call is good when each direction is."""

    call_id: int
    run_id: int
    day: str
    minute: int
    busy: bool
    concurrent: int
    good: bool
    mos: float | None
    """Of the worse direction; None where nothing arrived in one of them."""


def by_call(readings: list[Reading]) -> list[CallReading]:
    """The calls that were placed both ways, in the order of their numbers."""
    pairs: dict[int, list[Reading]] = {}
    for reading in readings:
        if reading.fact.one_way:
            continue
        pairs.setdefault(reading.fact.call_id, []).append(reading)
    calls = []
    for call_id, both in sorted(pairs.items()):
        fact = both[0].fact
        scores = [r.fact.mos for r in both]
        worst = None if any(s is None for s in scores) else min(s for s in scores if s is not None)
        good = all(r.good for r in both)
        calls.append(CallReading(call_id, fact.run_id, fact.day, fact.minute, fact.busy, fact.concurrent, good, worst))
    return calls
