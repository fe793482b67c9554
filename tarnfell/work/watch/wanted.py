"""What a probe is told of its watch at each heartbeat, and what it says of it."""

from __future__ import annotations

import sqlite3

from tarnfell.store import places as place_store
from tarnfell.store import watches as watch_store
from tarnfell.store.probes import Probe
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.watch import Watch, WatchRunning, WatchTarget


def wanted_of(db: sqlite3.Connection, probe: Probe) -> dict[str, object] | None:
    """As the probe reads it; None where nothing is wanted.

    The far end's address and key are those of now: a change of them is a change of what is wanted.
    """
    watch = watch_store.watch_of(db, probe.id)
    if watch is None or not watch.wanted:
        return None
    far_end = place_store.far_end_by_id(db, watch.far_end_id)
    if far_end is None or far_end.archived_us is not None:
        return None
    target = WatchTarget(far_end.id, far_end.host, far_end.port, far_end.key, watch.dscp)
    wanted = Watch(watch.id, watch.version, watch.interval_ms, (target,), watch.places, watch.large_every)
    return plain(wanted)


def is_news(db: sqlite3.Connection, probe: Probe, running: WatchRunning | None) -> bool:
    """Whether the probe says something of its watch that is not known yet."""
    watch = watch_store.watch_of(db, probe.id)
    return watch is not None and (watch.told_version, watch.trouble) != _told(watch, running)


def note(db: sqlite3.Connection, probe: Probe, running: WatchRunning | None) -> None:
    watch = watch_store.watch_of(db, probe.id)
    if watch is not None:
        watch_store.note_running(db, probe.id, *_told(watch, running))


def _told(watch: watch_store.Watch, running: WatchRunning | None) -> tuple[int | None, str | None]:
    if running is None or running.id != watch.id:
        return None, None
    return running.version, running.trouble
