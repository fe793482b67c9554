"""A run while it is on: its seconds, and quality as it forms."""

from __future__ import annotations

import json
import statistics
from functools import lru_cache
from typing import Any

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
from tarnfell.work.judging.live import criterion_of_run, mouth_to_ear_ms, scores_of

blueprint = Blueprint("live", __name__)

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
    body: dict[str, Any] = json.loads(told)
    before: dict[str, Any] | None = None if told_before is None else json.loads(told_before)
    rtt = body["rtt_us"]
    delay_ms = mouth_to_ear_ms(rtt, criterion)
    gap = max(1, body["second"] - (before["second"] if before else 0))
    sides = {}
    for side in ("up", "down"):
        then = before[side] if before else [None] * len(body[side])
        sides[side] = _live_side(body[side], then, gap, delay_ms, criterion)
    return LiveSecondView(
        second=body["second"],
        rtt_ms=rtt / 1000 if rtt else None,
        send_late_max_ms=body["send_late_max_us"] / 1000,
        up=sides["up"],
        down=sides["down"],
        video_up=_live_video(body, before, gap, "video_up"),
        video_down=_live_video(body, before, gap, "video_down"),
    )


def _live_video(body: dict[str, Any], before: dict[str, Any] | None, gap: int, side: str) -> LiveVideo | None:
    now: list[dict[str, int]] = body.get(side) or []
    if not now:
        return None
    received = sum(one["received"] for one in now)
    had = sum(one["received"] for one in before.get(side) or []) if before else 0
    return LiveVideo(
        rate=max(0, received - had) / gap,
        received=received,
        missing=sum(max(0, one["reached"] - one["received"]) for one in now),
        late=sum(one["late"] for one in now),
    )


def _live_side(
    now: list[dict[str, int]],
    before: list[dict[str, int] | None],
    gap: int,
    delay_ms: float,
    criterion: Criterion,
) -> LiveSide:
    fresh = [
        {name: this[name] - (last[name] if last else 0) for name in ("received", "reached", "late")}
        for this, last in zip(now, before, strict=True)
    ]
    rates = [max(0, one["received"]) / gap for one in fresh]
    scores = scores_of(fresh, delay_ms, criterion)
    known = [s for s in scores if s is not None]
    return LiveSide(
        rate=statistics.mean(rates) if rates else 0.0,
        received=sum(one["received"] for one in now),
        missing=sum(max(0, one["reached"] - one["received"]) for one in now),
        late=sum(one["late"] for one in now),
        jitter_ms=max((one["jitter_us"] for one in now), default=0) / 1000,
        mos=statistics.median(known) if known else None,
        call_rates=rates,
        call_mos=scores,
    )
