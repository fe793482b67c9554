"""Decisions about a site's causes. Each stays on record; the newest of a cause is the one that holds."""

from __future__ import annotations

import sqlite3

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.verdict.decisions import Decision
from tarnfell.store.db import now_us


def decide(
    db: sqlite3.Connection, site_id: int, key: CauseKey, leg: LegName, direction: Way, dismissed: bool, words: str,
    by: int | None,
) -> None:  # fmt: skip
    """Without words it takes back what was decided before."""
    db.execute(
        "INSERT INTO cause_decision (site_id, key, leg, direction, dismissed, words, decided_us, decided_by) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (site_id, key, leg, direction, int(dismissed), words, now_us(), by),
    )


def decisions_of(db: sqlite3.Connection, site_id: int) -> list[Decision]:
    """Those that hold."""
    rows = db.execute(
        "SELECT key, leg, direction, dismissed, words, coalesce(user.name, '') FROM cause_decision "
        "LEFT JOIN user ON user.id = decided_by WHERE cause_decision.id IN (SELECT max(id) FROM cause_decision "
        "WHERE site_id = ? GROUP BY key, leg, direction) AND words <> '' ORDER BY cause_decision.id",
        (site_id,),
    )
    return [Decision(row[0], row[1], row[2], bool(row[3]), row[4], row[5]) for row in rows]
