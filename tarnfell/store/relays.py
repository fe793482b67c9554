"""The relay that browsers of an engagement may go through where UDP does not pass."""

from __future__ import annotations

import sqlite3
from dataclasses import astuple, dataclass, fields


@dataclass(frozen=True)
class Relay:
    host: str
    port: int
    """By UDP and by TCP."""
    tls_port: int | None
    user: str
    """Empty where the secret is shared with the relay, and names are made for an hour or so each."""
    secret: str


_COLUMNS = ", ".join(f.name for f in fields(Relay))


def relay_of(db: sqlite3.Connection, engagement_id: int) -> Relay | None:
    row = db.execute(f"SELECT {_COLUMNS} FROM relay WHERE engagement_id = ?", (engagement_id,)).fetchone()
    return Relay(*row) if row else None


def keep_relay(db: sqlite3.Connection, engagement_id: int, relay: Relay | None) -> None:
    """None: there is none any more."""
    db.execute("DELETE FROM relay WHERE engagement_id = ?", (engagement_id,))
    if relay is not None:
        db.execute(
            f"INSERT INTO relay (engagement_id, {_COLUMNS}) VALUES (?, ?, ?, ?, ?, ?)",
            (engagement_id, *astuple(relay)),
        )
