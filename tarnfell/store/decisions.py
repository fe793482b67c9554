"""Decisions about a site's causes. Each stays on record; the newest of a cause is the one that holds."""

from __future__ import annotations

import sqlite3

from tarnfell.core.verdict.decisions import Decision
from tarnfell.store.db import now_us

_OWN = ("key", "leg", "direction", "dismissed", "words", "weight", "title", "remedy", "who")


def decide(db: sqlite3.Connection, site_id: int, decision: Decision, by: int | None) -> None:
    """One that says nothing takes back what was decided before."""
    db.execute(
        f"INSERT INTO cause_decision (site_id, decided_us, decided_by, {', '.join(_OWN)}) "
        f"VALUES (?, ?, ?, {', '.join('?' for _ in _OWN)})",
        (site_id, now_us(), by, *(getattr(decision, name) for name in _OWN)),
    )


def decisions_of(db: sqlite3.Connection, site_id: int) -> list[Decision]:
    """Those that hold."""
    rows = db.execute(
        f"SELECT {', '.join(_OWN)}, coalesce(user.name, '') AS \"by\" FROM cause_decision "
        "LEFT JOIN user ON user.id = decided_by WHERE cause_decision.id IN (SELECT max(id) FROM cause_decision "
        "WHERE site_id = ? GROUP BY key, leg, direction) ORDER BY cause_decision.id",
        (site_id,),
    )
    found = [Decision(**dict(row) | {"dismissed": bool(row["dismissed"])}) for row in rows]
    return [one for one in found if not one.says_nothing]
