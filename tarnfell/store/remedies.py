"""Remedies: when one was applied at a site, and whether what was measured before still counts."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Remedy:
    id: int
    site_id: int
    at_us: int
    words: str
    set_aside: bool
    marked_by: str | None
    """The name of who marked it."""


def remedies_of(db: sqlite3.Connection, site_id: int) -> list[Remedy]:
    """Newest first."""
    rows = db.execute(
        "SELECT r.id, r.site_id, r.at_us, r.words, r.set_aside, u.name AS marked_by FROM remedy r "
        "LEFT JOIN user u ON u.id = r.marked_by WHERE r.site_id = ? ORDER BY r.at_us DESC, r.id DESC",
        (site_id,),
    )
    return [Remedy(**dict(row) | {"set_aside": bool(row["set_aside"])}) for row in rows]


def add_remedy(
    db: sqlite3.Connection, site_id: int, at_us: int, words: str, set_aside: bool, marked_by: int | None
) -> None:
    db.execute(
        "INSERT INTO remedy (site_id, at_us, words, set_aside, marked_by, created_us) VALUES (?, ?, ?, ?, ?, ?)",
        (site_id, at_us, words, int(set_aside), marked_by, now_us()),
    )


def remove_remedy(db: sqlite3.Connection, site_id: int, remedy_id: int) -> bool:
    """False where the site has no such mark."""
    gone = db.execute("DELETE FROM remedy WHERE id = ? AND site_id = ?", (remedy_id, site_id))
    return gone.rowcount == 1
