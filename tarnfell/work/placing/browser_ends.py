"""Far ends that a browser can be sent to: those of the site that the server itself can ask, the nearest first."""

from __future__ import annotations

import sqlite3

from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.places import FarEnd
from tarnfell.store.sites import Site


def ends_for_browsers(db: sqlite3.Connection, site: Site) -> dict[FarEnd, float | None]:
    """With the shortest time that a probe of the site took to connect, in milliseconds; None where none has tried.

    A far end that a probe is stands behind somebody's firewall: a browser's offer has no way to it.
    """
    measured: dict[int, float] = {}
    for probe in probe_store.probes_of(db, site.id):
        for number, distance in place_store.distances_of(db, probe.id).items():
            if distance.connect_ms is not None:
                measured[number] = min(distance.connect_ms, measured.get(number, distance.connect_ms))
    ends = [one for one in place_store.far_ends_of(db, site.id) if one.kind != "probe"]
    return {one: measured.get(one.id) for one in sorted(ends, key=lambda one: measured.get(one.id, float("inf")))}
