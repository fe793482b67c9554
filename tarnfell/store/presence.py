"""When this server was up, and when a probe was not heard of although it was."""

from __future__ import annotations

import sqlite3

from tarnfell.store.db import now_us

UP_WITHIN_US = 60 * 1_000_000
"""The clerk notes every few seconds that it is there; longer without a note, the server was down."""
ABSENT_US = 60 * 1_000_000
"""A probe makes contact every few seconds; shorter absences are not kept."""


def note_up(db: sqlite3.Connection) -> None:
    at = now_us()
    # A clock that was set back must not make a stretch that ends before it begins.
    done = db.execute(
        "UPDATE server_up SET seen_us = max(seen_us, ?1) "
        "WHERE began_us = (SELECT max(began_us) FROM server_up) AND seen_us >= ?1 - ?2",
        (at, UP_WITHIN_US),
    )
    if not done.rowcount:
        db.execute("INSERT OR IGNORE INTO server_up (began_us, seen_us) VALUES (?1, ?1)", (at,))


def up_since(db: sqlite3.Connection) -> int | None:
    """When the stretch began that the server is up in; None before the first note."""
    row = db.execute("SELECT max(began_us) FROM server_up").fetchone()
    return None if row[0] is None else int(row[0])


def note_return(db: sqlite3.Connection, probe_id: int) -> None:
    """To be called before the contact is kept that a probe makes now: keeps how long it was away, if that was long."""
    at = now_us()
    db.execute(
        "INSERT OR IGNORE INTO absence (probe_id, from_us, until_us) SELECT id, from_us, ?2 FROM ("
        "SELECT id, max(last_contact_us, coalesce((SELECT max(began_us) FROM server_up), 0)) AS from_us FROM probe "
        "WHERE id = ?1 AND kind = 'program' AND last_contact_us IS NOT NULL) WHERE from_us < ?2 - ?3",
        (probe_id, at, ABSENT_US),
    )


def absences(db: sqlite3.Connection, probe_id: int, since_us: int) -> list[tuple[int, int]]:
    """That are over, those that ended after ``since_us``; in the order of time."""
    rows = db.execute(
        "SELECT from_us, until_us FROM absence WHERE probe_id = ? AND until_us > ? ORDER BY from_us",
        (probe_id, since_us),
    )
    return [(row[0], row[1]) for row in rows]
