"""Runs with browsers made whole: the page's half of the packets, joined with the far end's, is delivered like a record.

The far end is asked over the network, in a thread of its own each; what is known is on disk before it is asked.
"""

from __future__ import annotations

import logging
import sqlite3
import threading
from collections.abc import Callable
from pathlib import Path

from tarnfell.store import browsers as browser_store
from tarnfell.store import deliveries
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import runs as run_store
from tarnfell.store.browsers import BrowserRun
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.files import DELIVERIES, HALVES
from tarnfell.store.places import FarEnd
from tarnfell.wire import WireError
from tarnfell.work.ingest.browsers import is_cut, own_half

log = logging.getLogger(__name__)

AT_ONCE = 4
PAUSE_US = 5_000_000
LONGEST_US = 60_000_000
"""From when the page delivered: whoever made the test waits for the result."""


class FarHalfMissing(Exception):
    """The far end's half is not to be had now; the text says why."""


Complete = Callable[[bytes, FarEnd, str], bytes]
"""Takes the page's half as a file of records, whom to ask, and the half's name there; gives the whole.
Raises FarHalfMissing."""


class Joining:
    def __init__(self, data: Path, complete: Complete) -> None:
        self._data, self._complete = data, complete
        self._under_way: dict[int, threading.Thread] = {}

    def turn(self, db: sqlite3.Connection) -> None:
        """Begin with those that are due, some at once."""
        self._under_way = {number: one for number, one in self._under_way.items() if one.is_alive()}
        for one in browser_store.next_halves(db, AT_ONCE):
            if one.run_id in self._under_way or len(self._under_way) >= AT_ONCE:
                continue
            thread = threading.Thread(target=self._join, args=(one,), name=f"half {one.run_id}")
            self._under_way[one.run_id] = thread
            thread.start()

    def end(self) -> None:
        for thread in self._under_way.values():
            thread.join()

    def _join(self, one: BrowserRun) -> None:
        db = connect(self._data)
        try:
            self._deliver(db, one)
            if one.half_sha256 and one.half_sha256 not in browser_store.halves_named(db):
                HALVES.drop(self._data, one.half_sha256)
        except Exception:  # of the disk, or of the database: it is tried again
            log.exception("the half of run %s", one.run_id)
            with writing(db):
                browser_store.put_off(db, one, PAUSE_US)
        finally:
            db.close()

    def _deliver(self, db: sqlite3.Connection, one: BrowserRun) -> None:
        run = run_store.run_by_id(db, one.run_id)
        far_end = place_store.far_end_by_id(db, run.far_end_id)
        body = HALVES.read(self._data, one.half_sha256 or "")
        try:
            if body is None or far_end is None:
                raise WireError("What the page delivered is missing from the server's data folder.")
            half = own_half(run, body)
            try:
                whole = self._complete(half, far_end, one.token)
            except FarHalfMissing as error:
                if now_us() - (one.half_us or 0) < LONGEST_US:
                    with writing(db):
                        browser_store.put_off(db, one, PAUSE_US)
                    return
                if not is_cut(body):
                    raise WireError(f"The far end's half of the packets could not be fetched: {error}") from None
                whole = half  # what one end saw of a line that gave out
        except WireError as error:
            with writing(db):
                browser_store.forget(db, run.id)
                if run.state not in ("done", "failed"):
                    job_store.move(db, run.id, "failed", f"The record of its packets was not taken: {error}")
            return
        sha256 = DELIVERIES.keep(self._data, [whole])
        with writing(db):
            if run.state != "done":
                deliveries.add(db, run.id, sha256)
                job_store.tell(db, run.id, "All packets have arrived and are being judged.")
            browser_store.forget(db, run.id)
