"""A run while it is on: its seconds, and quality as it forms."""

from __future__ import annotations

import json
import sqlite3
import statistics
from functools import lru_cache
from typing import Any

import numpy as np
from flask import Blueprint, g

from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.targets import Targets
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
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.runs import Run

blueprint = Blueprint("live", __name__)

SECONDS_KEPT = 2000
"""Ready for the next who looks: a few kilobytes each."""


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>/live", response=RunLive)
def follow_run(run_id: int, query: LiveQuery) -> RunLive:
    """The seconds of a run after a given one, with quality as it forms."""
    run = require_run(run_id)
    # One second more than asked for: a rate is the difference of two.
    told = job_store.seconds_after(g.db, run.id, max(0, query.after - 1))
    criterion = criterion_for(codec_of_site(g.db, run.site_id, run.codec), run.ptime_ms)
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


def good_so_far(db: sqlite3.Connection, run: Run, targets: Targets) -> tuple[int, int] | None:
    """Calls of a run under way that are acceptable by what is counted so far, of all; None before the second second.

    Delay is half the round trip here, and losses are taken as single: the result judges every packet.
    """
    newest = job_store.newest_seconds(db, run.id, 1)
    if not newest or newest[0]["second"] < 2:
        return None
    criterion = criterion_for(codec_of_site(db, run.site_id, run.codec), run.ptime_ms)
    one_way_ms = _one_way_ms(newest[0], criterion)
    sides = [newest[0][way] for way in ("up", "down") if run.direction in ("both", way)]
    good = 0
    scored = [_scores(side, one_way_ms, criterion) for side in sides]
    for scores in zip(*scored, strict=True):
        good += all(score is not None and score >= targets.target_mos for score in scores)
    return good, run.calls


def _one_way_ms(body: dict[str, Any], criterion: Criterion) -> float:
    return (body["rtt_us"] or 0) / 2000 + criterion.buffer_ms + criterion.ptime_ms + criterion.look_ahead_ms


@lru_cache(maxsize=SECONDS_KEPT)
def _live_second(told: str, told_before: str | None, criterion: Criterion) -> LiveSecondView:
    """One second as JSON told it, after the one before. Whoever else looks at the run sees the same."""
    body: dict[str, Any] = json.loads(told)
    before: dict[str, Any] | None = None if told_before is None else json.loads(told_before)
    rtt = body["rtt_us"]
    one_way = _one_way_ms(body, criterion)
    gap = max(1, body["second"] - (before["second"] if before else 0))
    sides = {}
    for side in ("up", "down"):
        then = before[side] if before else [None] * len(body[side])
        sides[side] = _live_side(body[side], then, gap, one_way, criterion)
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
    one_way_ms: float,
    criterion: Criterion,
) -> LiveSide:
    fresh = [
        {name: this[name] - (last[name] if last else 0) for name in ("received", "reached", "late")}
        for this, last in zip(now, before, strict=True)
    ]
    rates = [max(0, one["received"]) / gap for one in fresh]
    scores = _scores(fresh, one_way_ms, criterion)
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


def _scores(counts: list[dict[str, int]], one_way_ms: float, criterion: Criterion) -> list[float | None]:
    """MOS of each call's direction, from what it counted over a time; None where nothing was due."""
    losses = []
    for one in counts:
        missed = max(0, one["reached"] - one["received"]) + max(0, one["late"])
        losses.append(min(100.0, 100 * missed / one["reached"]) if one["reached"] > 0 else 0.0)
    # All at once: fifty people may be looking.
    scores = criterion.mos(criterion.rating(one_way_ms, np.array(losses), 1.0)).tolist()
    return [score if one["reached"] > 0 else None for one, score in zip(counts, scores, strict=True)]
