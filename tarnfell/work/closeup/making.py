"""The clerk's turn at close-ups."""

from __future__ import annotations

import logging
import sqlite3
from pathlib import Path

from tarnfell.store import tasks
from tarnfell.work.closeup.call import CALLS
from tarnfell.work.closeup.kept import MOST_KEPT
from tarnfell.work.closeup.video import VIDEOS
from tarnfell.work.making import attempt, keep_file

SUBJECTS = {one.kind: one for one in (CALLS, VIDEOS)}
KINDS = tuple(SUBJECTS)

log = logging.getLogger(__name__)


def make_next(db: sqlite3.Connection, data: Path) -> bool:
    """Make the close-up that was asked for last. Whether there was one. Raises as ``making.attempt``."""
    task = tasks.last_task(db, among=KINDS)
    if task is None:
        return False

    def make() -> None:
        size = keep_file(db, data, task, [SUBJECTS[task.kind].now(db, task)], MOST_KEPT)
        log.info("%s %s made, %d bytes", task.kind, task.mark, size)

    attempt(db, task, make)
    return True
