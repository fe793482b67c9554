"""What a site's brief said before, and who changed it."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import asdict, dataclass

from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Changed:
    """One field; values in words."""

    what: str
    before: str
    after: str


@dataclass(frozen=True)
class BriefChange:
    at_us: int
    by: str
    """Name; empty where it is not known."""
    changes: list[Changed]


def keep_change(db: sqlite3.Connection, site_id: int, changes: list[Changed], by: int | None) -> None:
    db.execute(
        "INSERT INTO brief_change (site_id, at_us, changed_by, changes) VALUES (?, ?, ?, ?)",
        (site_id, now_us(), by, json.dumps([asdict(one) for one in changes])),
    )


def changes_of(db: sqlite3.Connection, site_id: int) -> list[BriefChange]:
    """Newest first."""
    rows = db.execute(
        "SELECT c.at_us, u.name, c.changes FROM brief_change c LEFT JOIN user u ON u.id = c.changed_by "
        "WHERE c.site_id = ? ORDER BY c.at_us DESC, c.id DESC",
        (site_id,),
    )
    return [BriefChange(row[0], row[1] or "", [Changed(**one) for one in json.loads(row[2])]) for row in rows]
