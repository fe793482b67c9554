"""What calls had of an episode."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

import numpy as np

from tarnfell.store import calls as call_store


def calls_during(
    db: sqlite3.Connection, site_id: int, spans: Sequence[tuple[int, int]], target_mos: float
) -> list[tuple[int, int]]:
    """Of each span of time: the calls that were on, and those of them below the target."""
    if not spans:
        return []
    calls = call_store.calls_between(db, site_id, min(one for one, _ in spans), max(one for _, one in spans))
    began = np.array([one.started_us for one in calls], np.int64)
    ended = began + np.array([round(one.seconds * 1e6) for one in calls], np.int64)
    below = np.array([one.worst_mos < target_mos for one in calls], bool)
    met = [(began < until_us) & (ended > from_us) for from_us, until_us in spans]
    return [(int(own.sum()), int((own & below).sum())) for own in met]
