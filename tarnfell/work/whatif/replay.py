"""A site's calls under a change: each direction's packets carried anew and judged as they were."""

from __future__ import annotations

import math
import sqlite3
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from tarnfell.core import quality
from tarnfell.core.causes import Direction, LegName
from tarnfell.core.codecs import Codec
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.trace import Trace
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.facts import CallFact
from tarnfell.core.whatif.change import LINE_FACTORS, Change
from tarnfell.core.whatif.queues import Queue, queue_of
from tarnfell.core.whatif.remedies import larger_line, media_first
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.store import watches as watch_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.sites import Site
from tarnfell.work.ingest.packets import half_of, known_delay, trace_of
from tarnfell.work.watch.reading import kept_reading

LOW = 0.2
"""Below this part of a call's highest queue a loss is none of the queue's."""
QUEUE_CAUSES = ("uplink-queue", "downlink-queue", "delay-swings", "inside-congested", "beyond-congested")
INSIDE_KBPS = 100_000.0
"""Of a switch's port, at least: what a full packet takes there is nothing beside a buffer."""


@dataclass
class Background:
    """What one direction loses while its queue is low: as much is lost while it is full, for the same reason."""

    sent: int = 0
    lost: int = 0
    full_sent: int = 0
    full_lost: int = 0

    def add(self, trace: Trace, queue: Queue) -> None:
        low = queue.wait_ms < LOW * queue.wait_ms.max()
        self.sent += int(low.sum())
        self.lost += int((low & ~trace.arrived).sum())
        self.full_sent += int(queue.full.sum())
        self.full_lost += int((queue.full & ~trace.arrived).sum())

    @property
    def least_mended(self) -> float:
        """Of what was lost in a full queue, the part that is surely the queue's: the rest may be lost without one as
        often as the rule of three and the losses seen allow (95 %)."""
        if not self.full_lost or not self.sent:
            return 0.0
        most = (self.lost + 2 * math.sqrt(self.lost) + 3) / self.sent
        return max(0.0, 1.0 - most * self.full_sent / self.full_lost)


@dataclass
class Replayed:
    """Facts as they would have been, at least and at best; what was done to how many."""

    at_least: list[CallFact] = field(default_factory=list)
    at_best: list[CallFact] = field(default_factory=list)
    judged: int = 0
    """Directions of calls judged anew."""
    left: int = 0
    """That could not be: they were cut, or nothing of them came."""
    mended: Counter[LegName] = field(default_factory=Counter)
    """Directions of calls whose queue was on a leg that the change mends."""
    unknown: int = 0
    """Directions with a queue of which the leg is not known: mended at best."""
    elsewhere: int = 0
    """Directions whose queue was on a leg that the change leaves as it is."""


class Legs:
    """On which leg a call's queue was: as a watch saw it then, else as all evidence tells of that direction."""

    def __init__(self, db: sqlite3.Connection, site: Site, causes: Sequence[Cause]) -> None:
        self._causes = [one for one in causes if one.key in QUEUE_CAUSES]
        self._episodes = sorted(
            (one.from_us, one.until_us, watch.probe_id, one.leg, one.direction)
            for watch in watch_store.watches_of(db, site.id)
            if (reading := kept_reading(db, watch.id))
            for one in reading.episodes
            if one.kind != "outage"
        )
        self._longest_us = max((until - begin for begin, until, *_ in self._episodes), default=0)
        self._begins = [begin for begin, *_ in self._episodes]

    def of(self, started_us: int, fact: CallFact) -> tuple[LegName, bool]:
        """And whether the watch of its probe saw it at that time."""
        until_us = started_us + int(fact.seconds * 1e6)
        first = bisect_left(self._begins, started_us - self._longest_us)
        last = bisect_left(self._begins, until_us)
        seen = {
            leg
            for _, until, probe_id, leg, way in self._episodes[first:last]
            if until > started_us and probe_id == fact.probe_id and way in (fact.direction, "both", None)
        }
        watched = bool(seen)
        if not seen:
            seen = {one.leg for one in self._causes if one.direction in (fact.direction, "both")}
        return seen.pop() if len(seen) == 1 else "unknown", watched


def replayed(
    db: sqlite3.Connection, site: Site, change: Change, facts: Sequence[CallFact], causes: Sequence[Cause]
) -> Replayed:
    """What cannot be judged anew (a call that was cut, or of which nothing came) stays as it was."""
    told = Replayed()
    if not change.replays:
        told.at_least = told.at_best = list(facts)
        return told
    touched = [fact for fact in facts if _touches(change, fact.direction)]
    carrier = _Carrier(db, site, change, touched, causes, told)
    criteria = _Criteria(db, site, change)
    changed: dict[tuple[int, Direction], tuple[CallFact, CallFact]] = {}
    for call, own in _by_call(db, touched):
        for fact in own:
            trace = _trace(call, fact)
            if call is None or trace is None:
                told.left += 1
                continue
            low, high = carrier.carried(call, fact, trace)
            if not criteria.changed and low is trace and high is trace:
                continue
            told.judged += 1
            criterion, codec = criteria.of(fact.run_id)
            known = call.relation is not None and known_delay(call.relation)
            least = _judged(fact, low, criterion, codec, known)
            best = least if high is low else _judged(fact, high, criterion, codec, known)
            changed[fact.call_id, fact.direction] = least, best
    for fact in facts:
        least, best = changed.get((fact.call_id, fact.direction), (fact, fact))
        told.at_least.append(least)
        told.at_best.append(best)
    return told


def _touches(change: Change, way: Direction) -> bool:
    return change.changes_listener or change.first_inside or change.mends_line(way)


def _by_call(db: sqlite3.Connection, facts: Sequence[CallFact]) -> Iterator[tuple[StoredCall | None, list[CallFact]]]:
    """Facts with their call; None of one that was never placed."""
    by_call: dict[int, list[CallFact]] = {}
    for fact in facts:
        by_call.setdefault(fact.call_id, []).append(fact)
    for call_id, own in by_call.items():
        yield call_store.call_by_id(db, call_id) if call_id > 0 else None, own


def _trace(call: StoredCall | None, fact: CallFact) -> Trace | None:
    if call is None or fact.outcome != "whole" or fact.received == 0 or call.relation is None or half_of(call.record):
        return None
    return trace_of(call.record, fact.direction, call.relation)


class _Criteria:
    """How the calls of each run are judged under the change."""

    def __init__(self, db: sqlite3.Connection, site: Site, change: Change) -> None:
        self._db, self._site, self._change = db, site, change
        self.changed = change.changes_listener
        self._known: dict[int, tuple[Criterion, Codec]] = {}

    def of(self, run_id: int) -> tuple[Criterion, Codec]:
        if run_id not in self._known:
            run = run_store.run_by_id(self._db, run_id)
            codec = codec_of_site(self._db, self._site.id, self._change.codec or run.codec)
            plain = criterion_for(codec, run.ptime_ms)
            buffer_ms = self._change.buffer_ms
            self._known[run_id] = (
                plain if buffer_ms is None else replace(plain, buffer_ms=buffer_ms, adaptive=self._change.adaptive),
                codec,
            )
        return self._known[run_id]


class _Carrier:
    """Each direction's packets as they would have come."""

    def __init__(
        self,
        db: sqlite3.Connection,
        site: Site,
        change: Change,
        facts: Sequence[CallFact],
        causes: Sequence[Cause],
        told: Replayed,
    ) -> None:
        self._change, self._told = change, told
        self._site = site
        """With the line that is asked about."""
        if not change.touches_queues:
            return
        self._legs = Legs(db, site, causes)
        self._calmest = _calmest(facts)
        self._background: dict[Direction, Background] = {"up": Background(), "down": Background()}
        for call, own in _by_call(db, [fact for fact in facts if fact.sent > fact.received]):
            for fact in own:
                trace = _trace(call, fact)
                queue = queue_of(trace) if trace else None
                if trace and queue and queue.stands:
                    self._background[fact.direction].add(trace, queue)

    def carried(self, call: StoredCall, fact: CallFact, trace: Trace) -> tuple[Trace, Trace]:
        """At least and at best; the trace itself where nothing of it changes."""
        if not self._change.touches_queues:
            return trace, trace
        way, told = fact.direction, self._told
        leg, watched = self._legs.of(call.started_us, fact)
        queue = queue_of(trace, self._calmest.get(_ends(fact)) if watched and fact.delay_p50_ms is not None else None)
        if queue is None or not queue.stands:
            return trace, trace
        line, inside = self._change.mends_line(way), self._change.first_inside
        if leg in ("inside", "line", "beyond"):
            if not (line if leg == "line" else inside and leg == "inside"):
                told.elsewhere += 1
                return trace, trace
            told.mended[leg] += 1
            sure = self._background[way].least_mended
            return (
                self._mended(way, trace, queue, leg == "line", sure, LINE_FACTORS[0]),
                self._mended(way, trace, queue, leg == "line", 1.0, LINE_FACTORS[1]),
            )
        told.unknown += 1
        return trace, self._mended(way, trace, queue, line, 1.0, LINE_FACTORS[1])

    def _mended(self, way: Direction, trace: Trace, queue: Queue, on_line: bool, share: float, of_rate: float) -> Trace:
        if not on_line:
            return media_first(trace, queue, INSIDE_KBPS, share)
        factor = self._change.line(way)
        if self._change.first(way):
            rate = self._site.up_kbps if way == "up" else self._site.down_kbps
            return media_first(trace, queue, rate or 1, share)
        return larger_line(trace, queue, max(1.0, factor * of_rate), share)


def _ends(fact: CallFact) -> tuple[int, int, Direction]:
    return fact.probe_id, fact.far_end_id, fact.direction


def _calmest(facts: Sequence[CallFact]) -> dict[tuple[int, int, Direction], float]:
    """Delay of the way without a queue, ms: the fastest packets of a twentieth of the calls between two ends."""
    fastest: dict[tuple[int, int, Direction], list[float]] = {}
    for fact in facts:
        if fact.delay_p50_ms is not None and fact.pdv_p50_ms is not None:
            fastest.setdefault(_ends(fact), []).append(fact.delay_p50_ms - fact.pdv_p50_ms)
    return {ends: sorted(values)[len(values) // 20] for ends, values in fastest.items()}


def _judged(fact: CallFact, trace: Trace, criterion: Criterion, codec: Codec, known: bool) -> CallFact:
    judged = quality.judge(trace, criterion)
    metrics = judged.metrics
    return replace(
        fact,
        received=metrics.received,
        loss_pct=metrics.loss_pct,
        late_pct=100 * judged.late / metrics.sent,
        burst_ratio=metrics.burst_ratio,
        mos=judged.mos,
        worst_stretch_mos=quality.worst_of(trace, criterion).stretch_mos,
        delay_p50_ms=metrics.delay_p50_ms if known else None,
        mouth_to_ear_ms=judged.mouth_to_ear_ms if known else None,
        pdv_p50_ms=metrics.pdv_p50_ms,
        pdv_p95_ms=metrics.pdv_p95_ms,
        pdv_p99_ms=metrics.pdv_p99_ms,
        jitter_ms=metrics.jitter_ms,
        ie=codec.ie,
        bpl=codec.bpl,
    )


def in_period(change: Change, days: Iterable[str]) -> list[bool]:
    """Of ISO dates, which count."""
    return [(change.from_day or "") <= day <= (change.until_day or "9") for day in days]
