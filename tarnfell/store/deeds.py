"""The trail of who did what, written once it was done and never changed."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Deed:
    at_us: int
    name: str
    """Of who did it; empty where nobody is known."""
    email: str
    site: str
    """Its name; empty where it was of none."""
    says: str
    address: str


def note(
    db: sqlite3.Connection, user_id: int | None, engagement_id: int | None, site_id: int | None, says: str, address: str
) -> None:
    db.execute(
        "INSERT INTO deed (at_us, user_id, engagement_id, site_id, says, address) VALUES (?, ?, ?, ?, ?, ?)",
        (now_us(), user_id, engagement_id, site_id, says, address),
    )


def deeds_of(db: sqlite3.Connection, engagement_id: int, limit: int, offset: int = 0) -> list[Deed]:
    """Newest first; a negative limit: all."""
    rows = db.execute(
        "SELECT d.at_us, coalesce(u.name, ''), coalesce(u.email, ''), coalesce(s.name, ''), d.says, d.address "
        "FROM deed d LEFT JOIN user u ON u.id = d.user_id LEFT JOIN site s ON s.id = d.site_id "
        "WHERE d.engagement_id = ? ORDER BY d.id DESC LIMIT ? OFFSET ?",
        (engagement_id, limit, offset),
    )
    return [Deed(*row) for row in rows]


def count_of(db: sqlite3.Connection, engagement_id: int) -> int:
    return int(db.execute("SELECT count(*) FROM deed WHERE engagement_id = ?", (engagement_id,)).fetchone()[0])
