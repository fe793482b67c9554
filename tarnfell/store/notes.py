"""Notes: what somebody wrote of a stretch of a site's time, of a leg or a call in it."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal

from tarnfell.store.db import now_us

NotedLeg = Literal["", "inside", "line", "beyond"]


@dataclass(frozen=True)
class Note:
    id: int
    site_id: int
    from_us: int
    until_us: int
    leg: NotedLeg
    """Empty where it is of none in particular."""
    call_id: int | None
    call_number: int | None
    """Of its run."""
    run_id: int | None
    words: str
    in_report: bool
    by: str
    """The name of who wrote it; empty where nobody did."""


_SELECT = (
    "SELECT n.id, n.site_id, n.from_us, n.until_us, n.leg, n.call_id, c.number AS call_number, c.run_id, n.words, "
    "n.in_report, coalesce(u.name, '') AS by "
    "FROM note n LEFT JOIN user u ON u.id = n.made_by LEFT JOIN call c ON c.id = n.call_id "
    "WHERE n.removed_us IS NULL AND "
)


def notes_of(db: sqlite3.Connection, site_id: int) -> list[Note]:
    """In the order of the time that they are of."""
    return [_note(row) for row in db.execute(f"{_SELECT} n.site_id = ? ORDER BY n.from_us, n.id", (site_id,))]


def note_by_id(db: sqlite3.Connection, note_id: int) -> Note | None:
    row = db.execute(f"{_SELECT} n.id = ?", (note_id,)).fetchone()
    return _note(row) if row else None


def add_note(
    db: sqlite3.Connection, site_id: int, span_us: tuple[int, int], leg: NotedLeg, call_id: int | None, words: str,
    in_report: bool, by: int | None,
) -> None:  # fmt: skip
    db.execute(
        "INSERT INTO note (site_id, from_us, until_us, leg, call_id, words, in_report, made_us, made_by) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (site_id, *span_us, leg, call_id, words, int(in_report), now_us(), by),
    )


def change_note(db: sqlite3.Connection, note_id: int, words: str, in_report: bool) -> None:
    db.execute("UPDATE note SET words = ?, in_report = ? WHERE id = ?", (words, int(in_report), note_id))


def remove_note(db: sqlite3.Connection, note_id: int) -> None:
    """It stays on record and is shown no more."""
    db.execute("UPDATE note SET removed_us = ? WHERE id = ?", (now_us(), note_id))


def _note(row: sqlite3.Row) -> Note:
    return Note(**dict(row) | {"in_report": bool(row["in_report"])})
