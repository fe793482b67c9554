"""The clerk's loops: plans carried out, what came in judged, what is known better now judged again.

Judging a long run takes minutes; plans are carried out beside it, in a thread of their own.
"""

from __future__ import annotations

import logging
import sqlite3
import threading
import time
from collections.abc import Callable
from pathlib import Path

from tarnfell.store.db import connect, folder_of
from tarnfell.work.ingest.again import judge_stale_run, read_stale_import
from tarnfell.work.ingest.deliveries import sweep, take_in_next
from tarnfell.work.placing.carry_out import carry_out

TURN_S = 0.25
LONGEST_PAUSE_S = 30.0
JUDGE_FOR_S = 0.3
"""Of one turn: a plan that comes due in the meantime waits no longer."""

log = logging.getLogger(__name__)


def keep_turning(data: Path, stop: threading.Event) -> None:
    """Both loops, until ``stop``; a fault is logged and the next turn tries again."""
    placing = threading.Thread(target=_keep, args=(data, stop, carry_out), name="placing")
    placing.start()
    db = connect(data)
    try:
        sweep(db, data)
    finally:
        db.close()
    _keep(data, stop, judge)
    placing.join()


def _keep(data: Path, stop: threading.Event, turn: Callable[[sqlite3.Connection], None]) -> None:
    pause_s = TURN_S
    while not stop.wait(pause_s):
        try:
            db = connect(data)
            try:
                turn(db)
            finally:
                db.close()
            pause_s = TURN_S
        except Exception:  # a loop that must not end, whatever one record holds
            log.exception("%s", turn.__name__)
            # A disk that is full stays so for a while, and must not be filled further by what is told of it.
            pause_s = min(LONGEST_PAUSE_S, 2 * pause_s)


def judge(db: sqlite3.Connection) -> None:
    """What came in, then what is known better now."""
    data = folder_of(db)
    while take_in_next(db, data):
        carry_out(db)  # the next step of a series need not wait for its turn
    judge_stale(db)


def judge_stale(db: sqlite3.Connection, for_s: float = JUDGE_FOR_S) -> None:
    """Judge again what is known better now, for a moment at a time."""
    data = folder_of(db)
    _for_a_while(lambda: judge_stale_run(db) or read_stale_import(db, data), for_s)


def _for_a_while(work: Callable[[], bool], for_s: float) -> None:
    until = time.monotonic() + for_s
    while time.monotonic() < until and work():
        pass
