"""Where people are signed in. The cookie holds a key; only its hash is kept here."""

from __future__ import annotations

import hashlib
import secrets
import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us

LASTS_US = 14 * 86_400_000_000
"""After it was last seen."""
NOTED_EACH_US = 60_000_000
"""When it was last seen is kept no finer: it is written while somebody only reads."""
LONGEST = 200


@dataclass(frozen=True)
class SignedIn:
    id: int
    user_id: int
    began_us: int
    seen_us: int
    peer: str
    browser: str


_SELECT = "SELECT id, user_id, began_us, seen_us, peer, browser FROM session"


def begin(db: sqlite3.Connection, user_id: int, peer: str, browser: str) -> str:
    """The key of the new session. Sessions that nobody came back to are let go of."""
    key, at_us = secrets.token_urlsafe(24), now_us()
    db.execute("DELETE FROM session WHERE seen_us < ?", (at_us - LASTS_US,))
    db.execute(
        "INSERT INTO session (user_id, key_hash, began_us, seen_us, peer, browser) VALUES (?, ?, ?, ?, ?, ?)",
        (user_id, _hash(key), at_us, at_us, peer[:LONGEST], browser[:LONGEST]),
    )
    return key


def session_by_key(db: sqlite3.Connection, key: str) -> SignedIn | None:
    row = db.execute(f"{_SELECT} WHERE key_hash = ? AND seen_us >= ?", (_hash(key), now_us() - LASTS_US)).fetchone()
    return SignedIn(*row) if row else None


def note_seen(db: sqlite3.Connection, session_id: int) -> None:
    db.execute("UPDATE session SET seen_us = ? WHERE id = ?", (now_us(), session_id))


def sessions_of(db: sqlite3.Connection, user_id: int) -> list[SignedIn]:
    """The one seen last first."""
    rows = db.execute(
        f"{_SELECT} WHERE user_id = ? AND seen_us >= ? ORDER BY seen_us DESC, id DESC", (user_id, now_us() - LASTS_US)
    )
    return [SignedIn(*row) for row in rows]


def end(db: sqlite3.Connection, session_id: int) -> None:
    db.execute("DELETE FROM session WHERE id = ?", (session_id,))


def end_all(db: sqlite3.Connection, user_id: int, but: int | None = None) -> None:
    db.execute("DELETE FROM session WHERE user_id = ? AND id IS NOT ?", (user_id, but))


def _hash(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()
