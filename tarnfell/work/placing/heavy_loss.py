"""Runs that hurt the site: heavy loss for a while stops a run by itself."""

from __future__ import annotations

import itertools
import sqlite3

from tarnfell.store import jobs as job_store
from tarnfell.store.runs import Run
from tarnfell.wire.kinds.calls import LiveDirection, LiveSecond

HEAVY_LOSS_PCT = 30.0
HEAVY_LOSS_S = 10
HEAVY_EDGE_S = 2
STOPPED_BY_LOSS = (
    f"Stopped by itself: at least {HEAVY_LOSS_PCT:.0f} % of packets were missing for {HEAVY_LOSS_S} seconds. "
    "More of it would have hurt whoever works there."
)


def stop_heavy_loss(db: sqlite3.Connection, run: Run) -> bool:
    """Ask the run to stop if either direction has lost heavily for a while. Whether it did.

    The while is looked at in three parts, its beginning, its middle and its end, not by the second: an end that
    stands still for a moment tells of nothing in one second and of too much in the next.
    """
    if run.stop_reason is not None:
        return False
    newest = job_store.newest_seconds(db, run.id, HEAVY_LOSS_S + 1)
    marks: list[LiveSecond] = []
    for ago in (0, HEAVY_EDGE_S, HEAVY_LOSS_S - HEAVY_EDGE_S, HEAVY_LOSS_S):
        mark = next((s for s in newest if s.second <= newest[0].second - ago), None)
        if mark is None:
            return False
        if mark not in marks:  # seconds that were never told leave one mark for two
            marks.append(mark)
    up, down = ([m.up + m.video_up for m in marks], [m.down + m.video_down for m in marks])
    for way in (up, down):
        if all(_heavy(now, before) for now, before in itertools.pairwise(way)):
            job_store.ask_stop(db, run.id, "heavy-loss", STOPPED_BY_LOSS)
            return True
    return False


def _heavy(now: tuple[LiveDirection, ...], before: tuple[LiveDirection, ...]) -> bool:
    """Between two seconds, over all calls and video streams; no where nothing was to be expected."""
    sent = sum(n.sent - b.sent for n, b in zip(now, before, strict=True))
    received = sum(n.received - b.received for n, b in zip(now, before, strict=True))
    return sent > 0 and 100 * (sent - received) >= HEAVY_LOSS_PCT * sent
