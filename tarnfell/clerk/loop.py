"""The clerk's loop: plans carried out, what came in judged, what is known better now judged again."""

from __future__ import annotations

import logging
import sqlite3
import threading
import time
from collections.abc import Callable
from pathlib import Path

from tarnfell.store.db import connect, folder_of
from tarnfell.work.ingest.again import judge_stale_run, read_stale_import
from tarnfell.work.placing.carry_out import carry_out

TURN_S = 0.5
JUDGE_FOR_S = 0.3
"""Of one turn: a plan that comes due in the meantime waits no longer."""

log = logging.getLogger(__name__)


def keep_turning(data: Path, stop: threading.Event) -> None:
    """Until ``stop``; a fault is logged and the next turn tries again."""
    while not stop.wait(TURN_S):
        try:
            db = connect(data)
            try:
                turn(db)
            finally:
                db.close()
        except Exception:  # the one loop that must not end, whatever one record holds
            log.exception("turn")


def turn(db: sqlite3.Connection) -> None:
    carry_out(db)
    judge_stale(db)


def judge_stale(db: sqlite3.Connection, for_s: float = JUDGE_FOR_S) -> None:
    """Judge again what is known better now, for a moment at a time."""
    data = folder_of(db)
    _for_a_while(lambda: judge_stale_run(db) or read_stale_import(db, data), for_s)


def _for_a_while(work: Callable[[], bool], for_s: float) -> None:
    until = time.monotonic() + for_s
    while time.monotonic() < until and work():
        pass
