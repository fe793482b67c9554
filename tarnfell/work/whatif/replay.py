"""A site's calls under a change: each direction's packets carried anew and judged as they were."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from tarnfell.core import quality
from tarnfell.core.causes import Direction
from tarnfell.core.codecs import Codec
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.trace import Trace
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.facts import CallFact
from tarnfell.core.whatif.change import Change
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.sites import Site
from tarnfell.work.ingest.packets import half_of, known_delay, trace_of
from tarnfell.work.whatif.carrier import Carrier, Flow, Tally, touches


@dataclass
class Replayed:
    """Facts as they would have been, at least and at best; what was done to how many."""

    at_least: list[CallFact] = field(default_factory=list)
    at_best: list[CallFact] = field(default_factory=list)
    tally: Tally = field(default_factory=Tally)


def replayed(
    db: sqlite3.Connection, site: Site, change: Change, facts: Sequence[CallFact], causes: Sequence[Cause]
) -> Replayed:
    """What cannot be judged anew (a call that was cut, or of which nothing came) stays as it was."""
    told = Replayed()
    if not change.replays:
        told.at_least = told.at_best = list(facts)
        return told
    touched = [fact for fact in facts if change.changes_listener or touches(change, fact.direction)]
    carrier = Carrier(db, site, change, causes)
    told.tally = carrier.tally
    if change.touches_queues:
        for call, own in _by_call(db, [fact for fact in touched if fact.sent > fact.received]):
            for fact in own:
                if trace := _trace(call, fact):
                    carrier.learn(fact.direction, trace)
    calmest = _calmest(touched)
    criteria = _Criteria(db, site, change)
    changed: dict[tuple[int, Direction], tuple[CallFact, CallFact]] = {}
    for call, own in _by_call(db, touched):
        for fact in own:
            trace = _trace(call, fact)
            if call is None or trace is None:
                told.tally.left += 1
                continue
            calm_ms = calmest.get(_ends(fact)) if fact.delay_p50_ms is not None else None
            flow = Flow(fact.direction, fact.probe_id, call.started_us, fact.seconds, calm_ms)
            low, high = carrier.carried(flow, trace)
            if not criteria.changed and low is trace and high is trace:
                continue
            told.tally.judged += 1
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
