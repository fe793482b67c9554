"""One clock relation per pair of ends: a run is judged by its own packets and by the runs around it."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.core.clock import CALM_MS, MIN_CALM_RUNS, ClockRelation, settle
from tarnfell.store.calls import StoredCall
from tarnfell.store.clocks import PairRun
from tarnfell.store.videos import StoredVideo
from tarnfell.work.ingest.packets import clock_relation


def relation_of(stored: StoredCall | StoredVideo) -> ClockRelation:
    """What a call or stream is judged by. One that waits to be judged again has to do with its own packets."""
    return stored.relation or clock_relation(stored.clock, [stored.record])


def settled(own: ClockRelation, pair: Sequence[PairRun]) -> ClockRelation:
    """What a run is judged by, from its own estimate and the other runs of its two ends."""
    return settle(own, [other.estimate for other in pair])


def known_better(begun_us: int, own: ClockRelation, pair: Sequence[PairRun]) -> list[int]:
    """Runs before this one whose clocks it may put right: judged with a queue in the way, and not long ago.

    Only runs since the third calm one before this can be: earlier ones had all the neighbours they need.
    """
    if own.kind != "estimated" or own.uncertainty_ms is None:
        return []
    before = [other for other in pair if other.begun_us < begun_us and other.estimate.kind == "estimated"]
    most = own.uncertainty_ms + CALM_MS
    calm = [other.begun_us for other in before if (other.estimate.uncertainty_ms or 0.0) <= most]
    since = calm[-MIN_CALM_RUNS] if len(calm) >= MIN_CALM_RUNS else 0
    return [o.id for o in before if o.begun_us >= since and (o.relation.uncertainty_ms or 0.0) > most + CALM_MS]
