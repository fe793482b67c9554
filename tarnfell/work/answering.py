"""The clerk's turn at answers that take too long for a request."""

from __future__ import annotations

import logging
import sqlite3
from pathlib import Path

from tarnfell.store import tasks
from tarnfell.work.alerts.trial import TRIALS
from tarnfell.work.answers import MOST_KEPT
from tarnfell.work.closeup.call import CALLS
from tarnfell.work.closeup.video import VIDEOS
from tarnfell.work.making import attempt, keep_file

ALL = {one.kind: one for one in (CALLS, VIDEOS, TRIALS)}
KINDS = tuple(ALL)
"""Of tasks; what comes of them is no document that anybody saves."""

log = logging.getLogger(__name__)


def answer_next(db: sqlite3.Connection, data: Path) -> bool:
    """Make the answer that was asked for last. Whether there was one. Raises as ``making.attempt``."""
    task = tasks.last_task(db, among=KINDS)
    if task is None:
        return False

    def make() -> None:
        size = keep_file(db, data, task, [ALL[task.kind].now(db, task)], MOST_KEPT)
        log.info("%s %s made, %d bytes", task.kind, task.mark, size)

    attempt(db, task, make)
    return True
