"""A run while it is on: its seconds, and quality as it forms."""

from __future__ import annotations

import statistics
from functools import lru_cache

from flask import Blueprint, g

from tarnfell.core.quality import Criterion
from tarnfell.server.access import require_run
from tarnfell.server.http.api import endpoint
from tarnfell.server.judge.sites import STATE_WORDS
from tarnfell.server.load.models.runs import (
    LiveQuery,
    LiveSecondView,
    LiveSide,
    LiveVideo,
    RunLive,
)
from tarnfell.store import jobs as job_store
from tarnfell.wire.kinds.calls import LiveDirection
from tarnfell.work.judging.live import Counted, criterion_of_run, mouth_to_ear_ms, scores_of

blueprint = Blueprint("live", __name__)

Counts = tuple[LiveDirection, ...]
_NOTHING = LiveDirection(0, 0, 0, 0, 0, 0)
SECONDS_KEPT = 2000
"""Ready for the next who looks: a few kilobytes each."""


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>/live", response=RunLive)
def follow_run(run_id: int, query: LiveQuery) -> RunLive:
    """The seconds of a run after a given one, with quality as it forms."""
    run = require_run(run_id)
    # One second more than asked for: a rate is the difference of two.
    told = job_store.seconds_after(g.db, run.id, max(0, query.after - 1))
    criterion = criterion_of_run(g.db, run)
    views, before = [], None
    for second, body in told:
        if second > query.after:
            views.append(_live_second(body, before, criterion))
        before = body
    return RunLive(
        state=run.state,
        state_words=STATE_WORDS[run.state],
        failure=run.failure,
        expected_rate=1000 / run.ptime_ms,
        seconds=views,
    )


@lru_cache(maxsize=SECONDS_KEPT)
def _live_second(told: str, told_before: str | None, criterion: Criterion) -> LiveSecondView:
    """One second as JSON told it, after the one before. Whoever else looks at the run sees the same."""
    now = job_store.live_second(told)
    before = job_store.live_second(told_before) if told_before is not None else None
    delay_ms = mouth_to_ear_ms(now.rtt_us, criterion)
    gap = max(1, now.second - (before.second if before else 0))
    return LiveSecondView(
        second=now.second,
        rtt_ms=now.rtt_us / 1000 if now.rtt_us else None,
        send_late_max_ms=now.send_late_max_us / 1000,
        up=_live_side(now.up, before.up if before else (), gap, delay_ms, criterion),
        down=_live_side(now.down, before.down if before else (), gap, delay_ms, criterion),
        video_up=_live_video(now.video_up, before.video_up if before else (), gap),
        video_down=_live_video(now.video_down, before.video_down if before else (), gap),
    )


def _live_video(now: Counts, before: Counts, gap: int) -> LiveVideo | None:
    if not now:
        return None
    received = sum(one.received for one in now)
    return LiveVideo(
        rate=max(0, received - sum(one.received for one in before)) / gap,
        received=received,
        missing=sum(max(0, one.reached - one.received) for one in now),
        late=sum(one.late for one in now),
    )


def _live_side(now: Counts, before: Counts, gap: int, delay_ms: float, criterion: Criterion) -> LiveSide:
    fresh = [
        Counted(this.received - last.received, this.reached - last.reached, this.late - last.late)
        for this, last in zip(now, before or [_NOTHING] * len(now), strict=True)
    ]
    rates = [max(0, one.received) / gap for one in fresh]
    scores = scores_of(fresh, delay_ms, criterion)
    known = [s for s in scores if s is not None]
    return LiveSide(
        rate=statistics.mean(rates) if rates else 0.0,
        received=sum(one.received for one in now),
        missing=sum(max(0, one.reached - one.received) for one in now),
        late=sum(one.late for one in now),
        jitter_ms=max((one.jitter_us for one in now), default=0) / 1000,
        mos=statistics.median(known) if known else None,
        call_rates=rates,
        call_mos=scores,
    )
