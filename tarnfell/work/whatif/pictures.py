"""A site's video streams under a change: each direction's packets carried anew and its frames judged as they were."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from tarnfell.core.causes import Direction
from tarnfell.core.picture import PictureCriterion, judge_picture
from tarnfell.core.trace import Trace
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.facts import VideoFact
from tarnfell.core.video import VideoProfile
from tarnfell.core.whatif.change import Change
from tarnfell.store import runs as run_store
from tarnfell.store import videos as video_store
from tarnfell.store.sites import Site
from tarnfell.work.ingest.packets import half_of, picture_criterion, trace_of
from tarnfell.work.ingest.pictures import profile_of
from tarnfell.work.whatif.carrier import Carrier, Flow, Tally, touches

CROWDED = 0.9
"""From this part of the line's rate on, streams that are put first only stand in each other's way."""


@dataclass
class ReplayedVideo:
    """Facts as they would have been, at least and at best; what was done to how many."""

    at_least: list[VideoFact] = field(default_factory=list)
    at_best: list[VideoFact] = field(default_factory=list)
    tally: Tally = field(default_factory=Tally)
    crowded: int = 0
    """Directions whose streams alone fill the line: left as they were."""


@dataclass(frozen=True)
class _Stream:
    """One direction, ready to be carried."""

    fact: VideoFact
    flow: Flow
    trace: Trace
    profile: VideoProfile
    criterion: PictureCriterion


def replayed_video(
    db: sqlite3.Connection, site: Site, change: Change, facts: Sequence[VideoFact], causes: Sequence[Cause]
) -> ReplayedVideo:
    """What cannot be judged anew stays as it was. ``site`` has the line that is asked about."""
    carrier = Carrier(db, site, change, causes)
    told = ReplayedVideo(tally=carrier.tally)
    streams: dict[tuple[int, Direction], _Stream] = {}
    for fact in facts:
        if not touches(change, fact.direction):
            continue
        stream = _stream(db, fact)
        if stream is None:
            carrier.tally.left += 1
            continue
        streams[fact.stream_id, fact.direction] = stream
        if fact.lost:
            carrier.learn(fact.direction, stream.trace)
    offered = Counter[tuple[int, Direction]]()
    for one in streams.values():
        offered[one.fact.run_id, one.fact.direction] += one.profile.kbps
    for fact in facts:
        least = best = fact
        stream = streams.get((fact.stream_id, fact.direction))
        if stream and _crowds(site, change, fact.direction, offered[fact.run_id, fact.direction]):
            told.crowded += 1
        elif stream:
            low, high = carrier.carried(stream.flow, stream.trace)
            if low is not stream.trace or high is not stream.trace:
                carrier.tally.judged += 1
                least = _judged(stream, low)
                best = least if high is low else _judged(stream, high)
        told.at_least.append(least)
        told.at_best.append(best)
    return told


def _stream(db: sqlite3.Connection, fact: VideoFact) -> _Stream | None:
    if fact.score is None:
        return None
    stored = video_store.video_by_id(db, fact.stream_id)
    if stored.relation is None or half_of(stored.record):
        return None
    trace = trace_of(stored.record, fact.direction, stored.relation)
    if trace is None or not trace.arrived.any():
        return None
    flow = Flow(fact.direction, run_store.run_by_id(db, fact.run_id).probe_id, stored.started_us, fact.seconds)
    return _Stream(fact, flow, trace, profile_of(stored.record), picture_criterion(stored.clock))


def _crowds(site: Site, change: Change, way: Direction, kbps: int) -> bool:
    rate = site.up_kbps if way == "up" else site.down_kbps
    return change.first(way) and rate is not None and kbps >= CROWDED * rate


def _judged(stream: _Stream, trace: Trace) -> VideoFact:
    picture = judge_picture(trace, stream.profile, stream.criterion)
    return replace(
        stream.fact,
        frames=picture.frames,
        whole=picture.whole,
        lost=picture.metrics.lost,
        late=picture.late,
        freezes=picture.freezes,
        frozen_ms=picture.frozen_ms,
        worst_second_fps=picture.worst_second_fps,
        score=picture.score,
    )
