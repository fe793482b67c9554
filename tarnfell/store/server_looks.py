"""Looks at addresses from the server itself. The clerk takes them.

waiting ──► running ──► done
   └──────────┴───────► failed, with the reason: stopped before it began, or the clerk ended in the middle
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Literal

from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.look import LookArguments, LookResult

ServerLookState = Literal["waiting", "running", "done", "failed"]
CANCELLED = "Stopped before it began."


@dataclass(frozen=True)
class ServerLook:
    id: int
    site_id: int
    asked: LookArguments
    created_us: int
    state: ServerLookState
    told: LookResult
    """So far."""
    failure: str | None
    stopped: bool
    """Somebody has ended it."""


_FIELDS = "id, site_id, asked, created_us, state, told, failure, stopped"


def ask(db: sqlite3.Connection, site_id: int, asked: LookArguments, user_id: int) -> int:
    cursor = db.execute(
        "INSERT INTO server_look (site_id, asked, created_us, made_by, state) VALUES (?, ?, ?, ?, 'waiting')",
        (site_id, json.dumps(plain(asked)), now_us(), user_id),
    )
    return int(cursor.lastrowid or 0)


def by_id(db: sqlite3.Connection, look_id: int) -> ServerLook | None:
    row = db.execute(f"SELECT {_FIELDS} FROM server_look WHERE id = ?", (look_id,)).fetchone()
    return _look(row) if row else None


def newest_of(db: sqlite3.Connection, site_id: int, limit: int) -> list[ServerLook]:
    """Newest first."""
    rows = db.execute(f"SELECT {_FIELDS} FROM server_look WHERE site_id = ? ORDER BY id DESC LIMIT ?", (site_id, limit))
    return [_look(row) for row in rows]


def open_ones(db: sqlite3.Connection) -> list[ServerLook]:
    """Of all sites, oldest first."""
    rows = db.execute(f"SELECT {_FIELDS} FROM server_look WHERE state IN ('waiting', 'running') ORDER BY id")
    return [_look(row) for row in rows]


def begin(db: sqlite3.Connection, look_id: int) -> None:
    db.execute("UPDATE server_look SET state = 'running' WHERE id = ? AND state = 'waiting'", (look_id,))


def tell(db: sqlite3.Connection, look_id: int, known: LookResult) -> None:
    db.execute("UPDATE server_look SET told = ? WHERE id = ?", (json.dumps(plain(known)), look_id))


def end(db: sqlite3.Connection, look_id: int, failure: str | None = None) -> None:
    """What ended before stays as it ended."""
    db.execute(
        "UPDATE server_look SET state = ?, failure = ? WHERE id = ? AND state IN ('waiting', 'running')",
        ("failed" if failure else "done", failure, look_id),
    )


def stop(db: sqlite3.Connection, look_id: int) -> None:
    db.execute("UPDATE server_look SET stopped = 1 WHERE id = ?", (look_id,))
    db.execute(
        "UPDATE server_look SET state = 'failed', failure = ? WHERE id = ? AND state = 'waiting'", (CANCELLED, look_id)
    )


def _look(row: sqlite3.Row) -> ServerLook:
    told = read(LookResult, json.loads(row["told"])) if row["told"] else LookResult()
    asked = read(LookArguments, json.loads(row["asked"]))
    return ServerLook(**{**dict(row), "asked": asked, "told": told, "stopped": bool(row["stopped"])})
