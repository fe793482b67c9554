"""How a watch stands, in figures and in a sentence."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.store import places as place_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe
from tarnfell.store.watches import Counts, Watch
from tarnfell.wire.kinds.watch import BESIDE
from tarnfell.wire.record import Record
from tarnfell.work.placing.presence import is_online
from tarnfell.work.watch.samples import columns_of, rtt_ms

RECENT_US = 10 * 60 * 1_000_000
QUIET_US = 45 * 1_000_000
"""Three batches: samples that are later than that are missing."""

State = Literal["ended", "starting", "sampling", "trouble", "offline", "quiet"]
FAR_END_GONE: tuple[State, str] = ("trouble", "No samples are taken: the far end is archived. Choose another.")


@dataclass(frozen=True)
class WatchStatus:
    state: State
    words: str
    counts: Counts
    recent_rtt_ms: float | None
    """Median of the last ten minutes; None where nothing was answered."""
    recent_lost: int
    recent_sent: int
    recent_beside: int
    """Of the recent ones, taken while calls loaded the line."""


def status_of(db: sqlite3.Connection, probe: Probe, watch: Watch) -> WatchStatus:
    """The figures are of what has come in; a probe that is offline keeps the rest on its disk."""
    at = now_us()
    counts = watch_store.counts(db, watch.id)
    batches = watch_store.batches_since(db, watch.id, at - RECENT_US)
    rows = [columns_of(Record.parse(batch.record)) for batch in batches]
    trips = np.concatenate([rtt_ms(one) for one in rows]) if rows else np.array([])
    far_end = place_store.far_end_by_id(db, watch.far_end_id)
    if watch.wanted and (far_end is None or far_end.archived_us is not None):
        state, words = FAR_END_GONE
    else:
        state, words = _state(probe, watch, counts, at)
    return WatchStatus(
        state,
        words,
        counts,
        float(np.median(trips)) if len(trips) else None,
        sum(batch.lost for batch in batches),
        sum(batch.lost + batch.answered for batch in batches),
        sum(int(np.sum(one[BESIDE] > 0)) for one in rows),
    )


def _state(probe: Probe, watch: Watch, counts: Counts, at_us: int) -> tuple[State, str]:
    if not watch.wanted:
        return "ended", "Ended; what it brought is kept."
    if not is_online(probe):
        return "offline", "The probe is offline. It goes on sampling and delivers when it is back."
    if watch.told_version != watch.version:
        return "starting", "The probe has been asked and has not begun yet."
    if watch.trouble:
        return "trouble", f"Something is in the way: {watch.trouble}"
    if counts.last_us is None or counts.last_us < watch.changed_us:
        return "starting", "Begun; the first samples are on their way."
    if at_us - counts.last_us > QUIET_US:
        return "quiet", "No samples have come in for a while, though the probe is online."
    return "sampling", "Samples are coming in."
