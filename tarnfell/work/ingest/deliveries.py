"""Delivered records judged one after the other: read and judged outside a transaction, written in a short one."""

from __future__ import annotations

import logging
import sqlite3
import time
from pathlib import Path

from tarnfell.store import calls as call_store
from tarnfell.store import clocks as clock_store
from tarnfell.store import deliveries
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import writing
from tarnfell.store.deliveries import MAX_TRIES, Delivery
from tarnfell.store.files import DELIVERIES
from tarnfell.wire import WireError
from tarnfell.work.ingest.uploads import judge_upload

CONTRADICTS = "The record file contradicts itself and was not taken."

log = logging.getLogger(__name__)


def take_in_next(db: sqlite3.Connection, data: Path) -> bool:
    """Judge the oldest record that waits. Whether there was one.

    Raises what goes wrong with this machine and not with the record, which is put off for a while.
    """
    one = deliveries.next_one(db)
    if one is None:
        return False
    with writing(db):
        deliveries.note_try(db, one)
    if one.tries >= MAX_TRIES:
        _refuse(db, one, f"It could not be judged in {MAX_TRIES} tries; the log says why.")
        return True
    run = run_store.run_by_id(db, one.run_id)
    if run.state == "done":  # sent again just when it was judged
        _forget(db, data, one)
        return True
    try:
        body = DELIVERIES.read(data, one.sha256)
        if body is None:
            raise WireError("The record file is missing from the server's data folder.")
        judged = judge_upload(run, body, codec_of_site(db, run.site_id, run.codec), clock_store.runs_of_pair(db, run))
        with writing(db):
            call_store.take_in(db, run_store.run_by_id(db, one.run_id), judged)
            deliveries.forget(db, run.id)
    except WireError as error:
        _refuse(db, one, str(error))
        return True
    except (KeyError, TypeError, ValueError, OverflowError):
        log.warning("record of run %s refused", one.run_id, exc_info=True)
        _refuse(db, one, CONTRADICTS)
        return True
    except (OSError, sqlite3.Error):
        with writing(db):
            deliveries.put_off(db, one)
        raise
    _forget(db, data, one)
    log.info("run %s judged: %s calls, %.1f s after it came in", run.id, run.calls, time.time() - one.received_us / 1e6)
    return True


def _forget(db: sqlite3.Connection, data: Path, one: Delivery) -> None:
    with writing(db):
        deliveries.forget(db, one.run_id)
    if one.sha256 not in deliveries.known(db):
        DELIVERIES.drop(data, one.sha256)


def _refuse(db: sqlite3.Connection, one: Delivery, reason: str) -> None:
    with writing(db):
        deliveries.refuse(db, one, reason)
        run = run_store.run_by_id(db, one.run_id)
        if run.state not in ("done", "failed"):
            job_store.move(db, run.id, "failed", f"The record of its packets was not taken: {reason}")
