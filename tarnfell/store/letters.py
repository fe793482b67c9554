"""Mail to one person at a time, with the life of a message about an alert (outbox.py)."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us
from tarnfell.store.outbox import PAUSES_US

LetterState = Literal["waiting", "sent", "failed"]


@dataclass(frozen=True)
class Letter:
    id: int
    about: str
    address: str
    subject: str
    words: str
    """Empty once it was sent or given up."""
    state: LetterState
    tries: int
    failure: str | None
    """Of the newest try."""


_LETTER = f"SELECT {', '.join(f.name for f in fields(Letter))} FROM letter"


def add(db: sqlite3.Connection, about: str, address: str, subject: str, words: str) -> None:
    at_us = now_us()
    db.execute(
        "INSERT INTO letter (about, address, subject, words, next_us, made_us) VALUES (?, ?, ?, ?, ?, ?)",
        (about, address, subject, words, at_us, at_us),
    )


def next_due(db: sqlite3.Connection) -> Letter | None:
    row = db.execute(
        f"{_LETTER} WHERE state = 'waiting' AND next_us <= ? ORDER BY tries, id LIMIT 1", (now_us(),)
    ).fetchone()
    return Letter(*row) if row else None


def newest_about(db: sqlite3.Connection, about: str) -> Letter | None:
    row = db.execute(f"{_LETTER} WHERE about = ? ORDER BY id DESC LIMIT 1", (about,)).fetchone()
    return Letter(*row) if row else None


def note_sent(db: sqlite3.Connection, letter: Letter) -> None:
    _end(db, letter, "sent", None)


def put_off(db: sqlite3.Connection, letter: Letter, failure: str) -> None:
    """It could not be sent this time."""
    if letter.tries >= len(PAUSES_US):
        give_up(db, letter, failure)
        return
    db.execute(
        "UPDATE letter SET tries = tries + 1, next_us = ?, failure = ? WHERE id = ?",
        (now_us() + PAUSES_US[letter.tries], failure, letter.id),
    )


def give_up(db: sqlite3.Connection, letter: Letter, failure: str) -> None:
    _end(db, letter, "failed", failure)


def take_back(db: sqlite3.Connection, about: str) -> None:
    """What it offers is over."""
    db.execute("DELETE FROM letter WHERE about = ? AND state = 'waiting'", (about,))


def _end(db: sqlite3.Connection, letter: Letter, state: LetterState, failure: str | None) -> None:
    db.execute(
        "UPDATE letter SET state = ?, tries = tries + 1, words = '', ended_us = ?, failure = ? WHERE id = ?",
        (state, now_us(), failure, letter.id),
    )
