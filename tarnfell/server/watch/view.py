"""How a probe's watch stands, as screens show it."""

from __future__ import annotations

import sqlite3
from dataclasses import asdict

from tarnfell.server.watch.models.watches import BesideView, WatchPlaceForm, WatchView
from tarnfell.store import places as place_store
from tarnfell.store import routines as routine_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe
from tarnfell.work.watch.routines import quiet_words
from tarnfell.work.watch.status import status_of


def watch_view(db: sqlite3.Connection, probe: Probe) -> WatchView | None:
    """None where none was ever asked for."""
    watch = watch_store.watch_of(db, probe.id)
    if watch is None:
        return None
    status = status_of(db, probe, watch)
    far_end = place_store.far_end_by_id(db, watch.far_end_id)
    assert far_end is not None  # a key of the table
    return WatchView(
        far_end_id=far_end.id,
        far_end=far_end.name,
        interval_ms=watch.interval_ms,
        dscp=watch.dscp,
        echoes=[WatchPlaceForm(role=one.role, address=one.address) for one in watch.places],
        large_every=watch.large_every,
        state=status.state,
        says=status.words,
        **asdict(status.counts),
        recent_rtt_ms=status.recent_rtt_ms,
        recent_sent=status.recent_sent,
        recent_lost=status.recent_lost,
        recent_beside=status.recent_beside,
        beside=[
            BesideView(
                what=one.what,
                every_s=one.every_s,
                next_us=one.next_us,
                begun_us=one.begun_us,
                left_us=one.left_us,
                left_words=one.left_words,
                quiet=quiet_words(one, watch, now_us()) if watch.wanted else "",
            )
            for one in routine_store.routines_of(db, watch.id)
        ],
    )
