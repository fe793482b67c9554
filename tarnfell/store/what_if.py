"""What people asked of a site's evidence.

waiting ──► being tried ──► ready
               │  ▲ ╰─────► failed: it ended the clerk, or could not be computed
               ╰──╯ when the clerk was killed, or the machine had no room
"""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us

State = Literal["waiting", "being tried", "ready", "failed"]
MAX_TRIES = 3
MOST_KEPT = 12
"""Of a site: older ones are forgotten when another is asked for."""


@dataclass(frozen=True)
class WhatIf:
    id: int
    site_id: int
    change: str
    state: State
    tries: int
    mark: str | None
    result: str | None
    asked_us: int


_WHAT_IF = f"SELECT {', '.join(f.name for f in fields(WhatIf))} FROM what_if"


def ask(db: sqlite3.Connection, site_id: int, change: str, by: int | None) -> WhatIf:
    """The same change asked again is tried again, in the place of the one before."""
    db.execute("DELETE FROM what_if WHERE site_id = ? AND change = ?", (site_id, change))
    db.execute(
        "DELETE FROM what_if WHERE site_id = ? AND id NOT IN "
        "(SELECT id FROM what_if WHERE site_id = ? ORDER BY id DESC LIMIT ?)",
        (site_id, site_id, MOST_KEPT - 1),
    )
    cursor = db.execute(
        "INSERT INTO what_if (site_id, change, asked_by, asked_us) VALUES (?, ?, ?, ?)",
        (site_id, change, by, now_us()),
    )
    return WhatIf(*db.execute(f"{_WHAT_IF} WHERE id = ?", (cursor.lastrowid,)).fetchone())


def of_site(db: sqlite3.Connection, site_id: int) -> list[WhatIf]:
    """Newest first."""
    return [WhatIf(*row) for row in db.execute(f"{_WHAT_IF} WHERE site_id = ? ORDER BY id DESC", (site_id,))]


def remove(db: sqlite3.Connection, site_id: int, what_if_id: int) -> bool:
    """False where the site has none of that number."""
    return db.execute("DELETE FROM what_if WHERE id = ? AND site_id = ?", (what_if_id, site_id)).rowcount == 1


def next_open(db: sqlite3.Connection) -> WhatIf | None:
    """The oldest that waits, or that a clerk left when it was killed."""
    row = db.execute(f"{_WHAT_IF} WHERE state IN ('waiting', 'being tried') ORDER BY id LIMIT 1").fetchone()
    return WhatIf(*row) if row else None


def note_try(db: sqlite3.Connection, one: WhatIf) -> None:
    """Before it is tried, so that one that ends the process is counted."""
    db.execute("UPDATE what_if SET state = 'being tried', tries = ? WHERE id = ?", (one.tries + 1, one.id))


def put_off(db: sqlite3.Connection, one: WhatIf) -> None:
    """It was not its fault: the try does not count."""
    db.execute("UPDATE what_if SET state = 'waiting', tries = ? WHERE id = ?", (one.tries, one.id))


def fail(db: sqlite3.Connection, one: WhatIf) -> None:
    db.execute("UPDATE what_if SET state = 'failed', ended_us = ? WHERE id = ?", (now_us(), one.id))


def finish(db: sqlite3.Connection, one: WhatIf, mark: str, result: str) -> None:
    db.execute(
        "UPDATE what_if SET state = 'ready', mark = ?, result = ?, ended_us = ? WHERE id = ?",
        (mark, result, now_us(), one.id),
    )
