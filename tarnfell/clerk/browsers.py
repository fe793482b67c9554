"""What browsers measured made whole: the page's half of the packets, joined with the far end's, is taken in like a
probe's record.

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
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import runs as run_store
from tarnfell.store.browsers import BrowserHalf
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.files import DELIVERIES, HALVES
from tarnfell.store.fills import FillAsked
from tarnfell.store.jobs import Job
from tarnfell.store.places import FarEnd
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fields import read
from tarnfell.work.ingest.browsers import Asked, fill_of, is_cut, own_half, reach_of

log = logging.getLogger(__name__)

AT_ONCE = 4
PAUSE_US = 5_000_000
LONGEST_US = 60_000_000
"""From when the page delivered: whoever made the test waits for the result."""


class FarHalfMissing(Exception):
    """The far end's half is not to be had now; the text says why."""


Complete = Callable[[bytes, FarEnd | None, str], bytes]
"""Takes the page's half as a file of records, whom to ask, and the half's name there; gives the whole. Nobody is asked
for that of a test over a WebSocket: it is in the data folder. Raises FarHalfMissing."""


class Joining:
    def __init__(self, data: Path, complete: Complete) -> None:
        self._data, self._complete = data, complete
        self._under_way: dict[int, threading.Thread] = {}

    def turn(self, db: sqlite3.Connection) -> None:
        """Begin with those that are due, some at once."""
        self._under_way = {number: one for number, one in self._under_way.items() if one.is_alive()}
        for one in browser_store.next_halves(db, AT_ONCE):
            if one.job_id in self._under_way or len(self._under_way) >= AT_ONCE:
                continue
            thread = threading.Thread(target=self._join, args=(one,), name=f"half {one.job_id}")
            self._under_way[one.job_id] = thread
            thread.start()

    def end(self) -> None:
        for thread in self._under_way.values():
            thread.join()

    def _join(self, one: BrowserHalf) -> None:
        db = connect(self._data)
        try:
            self._deliver(db, one)
            if one.half_sha256 and one.half_sha256 not in browser_store.halves_named(db):
                HALVES.drop(self._data, one.half_sha256)
        except Exception:  # of the disk, or of the database: it is tried again
            log.exception("the half of job %s", one.job_id)
            with writing(db):
                browser_store.put_off(db, one, PAUSE_US)
        finally:
            db.close()

    def _deliver(self, db: sqlite3.Connection, one: BrowserHalf) -> None:
        job = job_store.job_by_id(db, one.job_id)
        body = HALVES.read(self._data, one.half_sha256 or "")
        try:
            if body is None:
                raise WireError("What the page delivered is missing from the server's data folder.")
            whole = self._whole(db, job, one, body)
            if whole is None:
                with writing(db):
                    browser_store.put_off(db, one, PAUSE_US)
                return
            fill = fill_of(body, whole) if job.kind == "fill" else None
            reach = reach_of(body, whole)
        except WireError as error:
            with writing(db):
                browser_store.forget(db, job.id)
                if job.state in job_store.OPEN:
                    job_store.move(db, job.id, "failed", f"The record of its packets was not taken: {error}")
            return
        if fill is not None:
            with writing(db):
                if job.state != "done":
                    browser_store.keep_reach(db, job.id, reach)
                    fill_store.keep(db, job.id, job.site_id, read(FillAsked, job.arguments), fill)
                    job_store.move(db, job.id, "done", "")
                browser_store.forget(db, job.id)
            return
        sha256 = DELIVERIES.keep(self._data, [whole])
        with writing(db):
            if job.state != "done":
                browser_store.keep_reach(db, job.id, reach)
                deliveries.add(db, job.id, sha256)
                job_store.tell(db, job.id, "All packets have arrived and are being judged.")
            browser_store.forget(db, job.id)

    def _whole(self, db: sqlite3.Connection, job: Job, one: BrowserHalf, body: bytes) -> bytes | None:
        """The file of records; None while the far end's part may still come. Raises WireError."""
        asked, far_end_id = _asked(db, job)
        half = own_half(asked, body)
        far_end = None if asked.by_socket else place_store.far_end_by_id(db, far_end_id)
        if far_end is None and not asked.by_socket:
            raise WireError("The far end that it was measured with is gone.")
        try:
            return self._complete(half, far_end, one.token)
        except FarHalfMissing as error:
            if now_us() - (one.half_us or 0) < LONGEST_US:
                return None
            if not is_cut(body):
                raise WireError(f"The far end's half of the packets could not be fetched: {error}") from None
            return half  # what one end saw of a line that gave out


def _asked(db: sqlite3.Connection, job: Job) -> tuple[Asked, int]:
    """The calls of a job, and the number of its far end."""
    by_socket = browser_store.way_of(db, job.id) == "socket"
    if job.kind == "fill":
        fill = read(FillAsked, job.arguments)
        return Asked(1, fill.ptime_ms, fill.plan.length_s, by_socket=by_socket), fill.far_end_id
    run = run_store.run_by_id(db, job.id)
    return Asked(run.calls, run.ptime_ms, run.seconds, run.dscp, by_socket), run.far_end_id
