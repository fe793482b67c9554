"""The clerk's loops: plans carried out, what came in judged and evaluated, what people asked for made, alerts told.

Judging a long run takes minutes, and a document seconds: each loop is a thread of its own, and plans wait for neither.
"""

from __future__ import annotations

import logging
import sqlite3
import threading
import time
from collections.abc import Callable
from pathlib import Path

from tarnfell.clerk.browsers import Complete, Joining
from tarnfell.clerk.looks import Look, Looks
from tarnfell.store import browsers as browser_store
from tarnfell.store import deliveries as delivery_store
from tarnfell.store import fills as fill_store
from tarnfell.store import flows as flow_store
from tarnfell.store import survey as survey_store
from tarnfell.store import tasks as task_store
from tarnfell.store.db import connect, folder_of, now_us, writing
from tarnfell.store.files import DELIVERIES, HALVES, MADE
from tarnfell.work.alerts.looking import OFTEN, SELDOM
from tarnfell.work.alerts.looking import look as look_for_alerts
from tarnfell.work.answering import answer_next
from tarnfell.work.evidence.evaluations import EVALUATIONS
from tarnfell.work.ingest.again import judge_stale_run, pass_on_codec_change, read_stale_import
from tarnfell.work.ingest.deliveries import take_in_next
from tarnfell.work.ingest.fills import judge_next_fill
from tarnfell.work.ingest.flows import judge_next_flow
from tarnfell.work.ingest.survey import judge_next_place
from tarnfell.work.issuing.documents import make_next
from tarnfell.work.issuing.issue import make_issued_pdf
from tarnfell.work.issuing.measured import MEASURED
from tarnfell.work.outbox.deliver import QUEUES, Queue, Sending, deliver_next
from tarnfell.work.placing.carry_out import carry_out
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.reading import read_next
from tarnfell.work.watch.retention import let_go_of_old
from tarnfell.work.whatif.trial import try_next

TURN_S = 0.25
LONGEST_PAUSE_S = 30.0
EVALUATIONS_S = 2.0
"""How often it is looked whether an evaluation is behind: that counts all runs there are."""
WATCH_S = 5.0
"""Samples come every ten seconds; nobody waits for a cell of ten minutes."""
ALERT_S, ALERT_SELDOM_S = 5.0, 30.0
DELIVER_S, DELIVER_FOR_S = 1.0, 30.0
RETAIN_S = 600.0
JUDGE_FOR_S = 0.3
"""Of one turn: a plan that comes due in the meantime waits no longer."""

Turn = Callable[[sqlite3.Connection], None]

log = logging.getLogger(__name__)


def keep_turning(
    data: Path,
    stop: threading.Event,
    look: Look,
    complete: Complete,
    sending: Sending,
    samples_days: int | None = None,
) -> None:
    """All loops, until ``stop``; a fault is logged and the next turn tries again. ``look`` takes looks from here, and
    ``complete`` asks far ends for their half of what browsers delivered.

    Samples are kept for so many days; None: for ever.
    """
    looks, joining = Looks(data, look), Joining(data, complete)

    def join_halves(db: sqlite3.Connection) -> None:
        joining.turn(db)

    seen = 0

    def evaluate_what_changed(db: sqlite3.Connection) -> None:
        nonlocal seen
        version = int(db.execute("PRAGMA data_version").fetchone()[0])  # of what others have committed
        if version != seen:
            evaluate(db)
            seen = version

    given_up: set[int] = set()

    def make_documents(db: sqlite3.Connection) -> None:
        make(db, given_up)

    def delivering(queue: Queue) -> Turn:
        def deliver(db: sqlite3.Connection) -> None:
            _for_a_while(lambda: not stop.is_set() and deliver_next(db, sending, queue), DELIVER_FOR_S)

        deliver.__name__ = f"deliver {queue}"
        return deliver

    def retain(db: sqlite3.Connection) -> None:
        if samples_days is not None:
            let_go_of_old(db, samples_days, now_us())

    paced: tuple[tuple[Turn, float], ...] = (
        (carry_out, TURN_S),
        (make_documents, TURN_S),
        (answer, TURN_S),
        (try_changes, TURN_S),
        (evaluate_what_changed, EVALUATIONS_S),
        (looks.turn, TURN_S),
        (join_halves, TURN_S),
        (watch, WATCH_S),
        (alert, ALERT_S),
        (alert_seldom, ALERT_SELDOM_S),
        *((delivering(queue), DELIVER_S) for queue in QUEUES),
        (retain, RETAIN_S),
    )
    others = [
        threading.Thread(target=_keep, args=(data, stop, turn, every_s), name=turn.__name__) for turn, every_s in paced
    ]
    for other in others:
        other.start()
    db = connect(data)
    try:
        DELIVERIES.sweep(data, delivery_store.known(db))
        HALVES.sweep(data, browser_store.halves_named(db))
        MADE.sweep(data, task_store.files_named(db))
        with writing(db):
            fill_store.judge_unreadable_again(db)
            flow_store.judge_unreadable_again(db)
            survey_store.judge_unreadable_again(db)
    finally:
        db.close()
    _keep(data, stop, judge, TURN_S)
    for other in others:
        other.join()
    looks.end()
    joining.end()


def _keep(data: Path, stop: threading.Event, turn: Turn, every_s: float) -> None:
    pause_s = every_s
    db: sqlite3.Connection | None = None
    while not stop.wait(pause_s):
        try:
            db = db or connect(data)
            turn(db)
            pause_s = every_s
        except Exception:  # a loop that must not end, whatever one record holds
            log.exception("%s", turn.__name__)
            # A disk that is full stays so for a while, and must not be filled further by what is told of it.
            pause_s = min(LONGEST_PAUSE_S, 2 * pause_s)
            # What is wrong may be the connection's own.
            _close(db)
            db = None
    _close(db)


def _close(db: sqlite3.Connection | None) -> None:
    try:
        if db is not None:
            db.close()
    except sqlite3.Error:
        log.exception("closing the database")


def judge(db: sqlite3.Connection, for_s: float = JUDGE_FOR_S) -> None:
    """What came in, then what is known better now, for a moment."""
    data = folder_of(db)
    while take_in_next(db, data):
        carry_out(db)  # the next step of a series need not wait for its turn
    judge_stale(db, for_s)


def judge_stale(db: sqlite3.Connection, for_s: float = JUDGE_FOR_S) -> None:
    """Judge again what is known better now, for a moment at a time."""
    data = folder_of(db)
    small = (pass_on_codec_change, judge_next_fill, judge_next_flow, judge_next_place, judge_stale_run)
    _for_a_while(lambda: any(work(db) for work in small) or read_stale_import(db, data), for_s)


def make(db: sqlite3.Connection, given_up: set[int]) -> None:
    """Documents: nobody waits for them in a request. Issued reports that cannot be printed go into ``given_up``."""
    data = folder_of(db)
    while make_issued_pdf(db, data, given_up) or make_next(db, data):
        pass


def answer(db: sqlite3.Connection) -> None:
    """What somebody waits for before a page, and takes too long for a request."""
    data = folder_of(db)
    while answer_next(db, data):
        pass


def try_changes(db: sqlite3.Connection) -> None:
    """What people asked about sites: packets of a week take half a minute to play again."""
    while try_next(db):
        pass


def evaluate(db: sqlite3.Connection) -> None:
    """Sites with much evidence: what it says, and what a report tells beside that."""
    while EVALUATIONS.follow(db) or MEASURED.follow(db):
        pass


def watch(db: sqlite3.Connection) -> None:
    """Samples packed, and what they say."""
    while pack_next(db, now_us()):
        pass
    while read_next(db, now_us()):
        pass


def alert(db: sqlite3.Connection) -> None:
    """What is new held against the rules for alerts."""
    look_for_alerts(db, OFTEN)


def alert_seldom(db: sqlite3.Connection) -> None:
    """And against those that new runs alone can keep."""
    look_for_alerts(db, SELDOM)


def _for_a_while(work: Callable[[], bool], for_s: float) -> None:
    until = time.monotonic() + for_s
    while work() and time.monotonic() < until:
        pass
