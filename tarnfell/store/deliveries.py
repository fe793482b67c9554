"""Records of runs that have arrived: waiting to be judged, or refused with the reason.

(arrived) ──► waiting ──► gone: the run is done
                 └──────► refused: the run failed; the file stays for whoever looks into it
"""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields

from tarnfell.store.db import now_us

MAX_TRIES = 5
"""A record that ended the clerk so often is refused: it would end it for ever."""
PAUSE_US = 10 * 1_000_000
"""After a try that failed for a reason of this machine, such as a full disk."""


@dataclass(frozen=True)
class Delivery:
    id: int
    run_id: int
    sha256: str
    received_us: int
    tries: int
    not_before_us: int
    refused: str | None


_DELIVERY = f"SELECT {', '.join(f.name for f in fields(Delivery))} FROM delivery"


def add(db: sqlite3.Connection, run_id: int, sha256: str) -> tuple[Delivery, bool]:
    """The delivery of this record, and whether it is the first time that it came."""
    added = db.execute(
        "INSERT INTO delivery (run_id, sha256, received_us) VALUES (?, ?, ?) ON CONFLICT (run_id, sha256) DO NOTHING",
        (run_id, sha256, now_us()),
    )
    row = db.execute(f"{_DELIVERY} WHERE run_id = ? AND sha256 = ?", (run_id, sha256)).fetchone()
    return Delivery(*row), added.rowcount > 0


def next_one(db: sqlite3.Connection, at_us: int | None = None) -> Delivery | None:
    """The oldest that waits and is due."""
    at = now_us() if at_us is None else at_us
    row = db.execute(f"{_DELIVERY} WHERE refused IS NULL AND not_before_us <= ? ORDER BY id LIMIT 1", (at,)).fetchone()
    return Delivery(*row) if row else None


def note_try(db: sqlite3.Connection, one: Delivery) -> None:
    """Before it is judged, so that one that ends the process is counted."""
    db.execute("UPDATE delivery SET tries = ? WHERE id = ?", (one.tries + 1, one.id))


def put_off(db: sqlite3.Connection, one: Delivery) -> None:
    """It was not the record's fault: the try does not count, and others go first for a while."""
    db.execute(
        "UPDATE delivery SET tries = ?, not_before_us = ? WHERE id = ?", (one.tries, now_us() + PAUSE_US, one.id)
    )


def refuse(db: sqlite3.Connection, one: Delivery, reason: str) -> None:
    db.execute("UPDATE delivery SET refused = ? WHERE id = ?", (reason, one.id))


def forget(db: sqlite3.Connection, run_id: int) -> None:
    """All deliveries of a run that is done."""
    db.execute("DELETE FROM delivery WHERE run_id = ?", (run_id,))


def known(db: sqlite3.Connection) -> set[str]:
    """The files that deliveries name."""
    return {row[0] for row in db.execute("SELECT sha256 FROM delivery")}
