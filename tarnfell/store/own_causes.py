"""Causes that people know of and the evidence cannot: old firmware, a line that was ordered, a word from the site."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us


@dataclass(frozen=True)
class OwnCause:
    id: int
    title: str
    says: str
    """How it is known."""
    remedy: str
    who: str
    """Acts."""
    by: str
    """The name of who added it; empty where nobody is known any more."""


def own_causes_of(db: sqlite3.Connection, site_id: int) -> list[OwnCause]:
    """In the order in which they were added."""
    rows = db.execute(
        "SELECT o.id, o.title, o.says, o.remedy, o.who, coalesce(u.name, '') AS by FROM own_cause o "
        "LEFT JOIN user u ON u.id = o.made_by WHERE o.site_id = ? ORDER BY o.id",
        (site_id,),
    )
    return [OwnCause(**dict(row)) for row in rows]


def add(db: sqlite3.Connection, site_id: int, title: str, says: str, remedy: str, who: str, by: int | None) -> None:
    db.execute(
        "INSERT INTO own_cause (site_id, title, says, remedy, who, made_us, made_by) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (site_id, title, says, remedy, who, now_us(), by),
    )


def change(db: sqlite3.Connection, site_id: int, number: int, title: str, says: str, remedy: str, who: str) -> bool:
    """False where the site has none of that number."""
    done = db.execute(
        "UPDATE own_cause SET title = ?, says = ?, remedy = ?, who = ? WHERE id = ? AND site_id = ?",
        (title, says, remedy, who, number, site_id),
    )
    return done.rowcount == 1


def remove(db: sqlite3.Connection, site_id: int, number: int) -> bool:
    """False where the site has none of that number."""
    return db.execute("DELETE FROM own_cause WHERE id = ? AND site_id = ?", (number, site_id)).rowcount == 1
