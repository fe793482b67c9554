"""Quality of a run that is on, as far as counts of its seconds tell: the result judges every packet."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.targets import Targets
from tarnfell.store import jobs as job_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.runs import Run


def criterion_of_run(db: sqlite3.Connection, run: Run) -> Criterion:
    return criterion_for(codec_of_site(db, run.site_id, run.codec), run.ptime_ms)


def good_so_far(db: sqlite3.Connection, run: Run, targets: Targets) -> tuple[int, int] | None:
    """Calls of a run under way that are acceptable by what is counted so far, of all; None before the second second.

    Delay is half the round trip here, and losses are taken as single.
    """
    newest = job_store.newest_seconds(db, run.id, 1)
    if not newest or newest[0].second < 2:
        return None
    criterion = criterion_of_run(db, run)
    delay_ms = mouth_to_ear_ms(newest[0].rtt_us, criterion)
    both = {"up": newest[0].up, "down": newest[0].down}
    sides = [
        [Counted(one.received, one.reached, one.late) for one in side]
        for way, side in both.items()
        if run.direction in ("both", way)
    ]
    good = 0
    for scores in zip(*(scores_of(side, delay_ms, criterion) for side in sides), strict=True):
        good += all(score is not None and score >= targets.target_mos for score in scores)
    return good, run.calls


def mouth_to_ear_ms(rtt_us: int | None, criterion: Criterion) -> float:
    return (rtt_us or 0) / 2000 + criterion.buffer_ms + criterion.ptime_ms + criterion.look_ahead_ms


class Counted(NamedTuple):
    """Packets of a call's direction over a time: come, due by now, and come late."""

    received: int
    reached: int
    late: int


def scores_of(counts: Sequence[Counted], delay_ms: float, criterion: Criterion) -> list[float | None]:
    """MOS of each call's direction, from what it counted over a time; None where nothing was due."""
    losses = []
    for one in counts:
        missed = max(0, one.reached - one.received) + max(0, one.late)
        losses.append(min(100.0, 100 * missed / one.reached) if one.reached > 0 else 0.0)
    # All at once: fifty people may be looking.
    scores = criterion.mos(criterion.rating(delay_ms, np.array(losses), 1.0)).tolist()
    return [score if one.reached > 0 else None for one, score in zip(counts, scores, strict=True)]
