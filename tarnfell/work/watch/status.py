"""How a watch stands, in figures and in a sentence."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np

from tarnfell.core.days.rounds import Floats
from tarnfell.store import cells as cell_store
from tarnfell.store import places as place_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe
from tarnfell.store.watches import Batch, Counts, Watch
from tarnfell.wire.kinds.watch import BESIDE, FATE, LOST, TARGET
from tarnfell.wire.record import Record
from tarnfell.work.placing.presence import clock_words, is_online
from tarnfell.work.watch import cells
from tarnfell.work.watch.samples import columns_of, rtt_ms

RECENT_US = 10 * 60 * 1_000_000
LAST_US = 1 << 62
QUIET_US = 45 * 1_000_000
"""Three batches: samples that are later than that are missing, and where they are seldom, two intervals."""

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
    recent = _recent(db, watch.id, at - RECENT_US)
    far_end = place_store.far_end_by_id(db, watch.far_end_id)
    if watch.wanted and (far_end is None or far_end.archived_us is not None):
        state, words = FAR_END_GONE
    else:
        state, words = state_of(probe, watch, counts.last_us, at)
    middle = float(np.median(recent.rtt_ms)) if len(recent.rtt_ms) else None
    return WatchStatus(state, words, counts, middle, recent.lost, recent.lost + len(recent.rtt_ms), recent.beside)


class _Recent(NamedTuple):
    """What far ends answered."""

    rtt_ms: Floats
    lost: int
    beside: int


def _recent(db: sqlite3.Connection, watch_id: int, since_us: int) -> _Recent:
    """Packed already, and waiting for it."""
    parts = [_of_batch(batch) for batch in watch_store.batches_since(db, watch_id, since_us)]
    far_ends = [place.number for place in cell_store.places_of(db, watch_id) if place.far_end_id is not None]
    for cell in cell_store.cells_between(db, watch_id, since_us, LAST_US):
        rounds = cells.unpacked(cell)
        codes = rounds.codes[[number for number in far_ends if number < len(rounds.codes)]]
        codes = codes[:, rounds.at_ms * 1000 >= since_us]
        beside = rounds.beside[rounds.at_ms * 1000 >= since_us]
        trips = cells.rtt_ms(codes)
        parts.append(
            _Recent(trips[~np.isnan(trips)], int((codes == cells.LOST).sum()), int((beside > 0).sum() * len(codes)))
        )
    if not parts:
        return _Recent(np.array([]), 0, 0)
    return _Recent(
        np.concatenate([part.rtt_ms for part in parts]), sum(part.lost for part in parts), sum(p.beside for p in parts)
    )


def _of_batch(batch: Batch) -> _Recent:
    record = Record.parse(batch.record)
    rows = columns_of(record)
    own = rows[TARGET] < len(record.meta["targets"])
    return _Recent(rtt_ms(rows), int((rows[FATE][own] == LOST).sum()), int((rows[BESIDE][own] > 0).sum()))


def state_of(probe: Probe, watch: Watch, last_us: int | None, at_us: int) -> tuple[State, str]:
    """``last_us`` is of the newest sample that has come in."""
    if not watch.wanted:
        return "ended", "Ended; what it brought is kept."
    if not is_online(probe):
        return (
            "offline",
            "The probe is offline. As long as its machine runs it goes on sampling, and delivers when it is back.",
        )
    clock = clock_words(probe)
    if clock:
        return "trouble", clock
    if watch.told_version != watch.version:
        return "starting", "The probe has been asked and has not begun yet."
    if watch.trouble:
        return "trouble", f"Something is in the way: {watch.trouble}"
    if last_us is None or last_us < watch.changed_us:
        return "starting", "Begun; the first samples are on their way."
    if at_us - last_us > max(QUIET_US, 2 * 1000 * watch.interval_ms):
        return "quiet", "No samples have come in for a while, though the probe is online."
    return "sampling", "Samples are coming in."
