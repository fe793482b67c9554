"""Links that let somebody in, each good once and for a while: into an engagement, or to a new password.

made ──► used
  ├────► revoked
  └────► expired
"""

from __future__ import annotations

import hashlib
import secrets
import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us
from tarnfell.store.members import Role

HOUR_US = 3_600_000_000
INVITED_FOR_US = 14 * 24 * HOUR_US
RESET_FOR_US = HOUR_US


@dataclass(frozen=True)
class Welcome:
    id: int
    email: str
    engagement_id: int | None
    """None: to a new password."""
    role: Role | None
    made_us: int
    by: str
    """Empty where nobody made it, or nobody is known any more."""
    expires_us: int


_SELECT = (
    "SELECT w.id, w.email, w.engagement_id, w.role, w.made_us, coalesce(u.name, ''), w.expires_us FROM welcome w "
    "LEFT JOIN user u ON u.id = w.made_by WHERE w.used_us IS NULL AND w.revoked_us IS NULL AND w.expires_us > ?"
)


def invite(db: sqlite3.Connection, engagement_id: int, email: str, role: Role, by: int | None) -> tuple[int, str]:
    """Its number and its code. Links for the same person into the same engagement that were made before are over."""
    db.execute(
        "UPDATE welcome SET revoked_us = ? WHERE engagement_id = ? AND email = ? AND used_us IS NULL "
        "AND revoked_us IS NULL",
        (now_us(), engagement_id, email),
    )
    return _made(db, email, engagement_id, role, by, INVITED_FOR_US)


def reset(db: sqlite3.Connection, email: str) -> tuple[int, str]:
    """For a new password; links for the same that were made before are over."""
    db.execute(
        "UPDATE welcome SET revoked_us = ? WHERE engagement_id IS NULL AND email = ? AND used_us IS NULL",
        (now_us(), email),
    )
    return _made(db, email, None, None, None, RESET_FOR_US)


def _made(
    db: sqlite3.Connection, email: str, engagement_id: int | None, role: Role | None, by: int | None, lasts_us: int
) -> tuple[int, str]:
    code, at_us = secrets.token_urlsafe(24), now_us()
    cursor = db.execute(
        "INSERT INTO welcome (code_hash, email, engagement_id, role, made_us, made_by, expires_us) "
        "VALUES (?, ?, ?, ?, ?, ?, ?)",
        (_hash(code), email, engagement_id, role, at_us, by, at_us + lasts_us),
    )
    return int(cursor.lastrowid or 0), code


def good(db: sqlite3.Connection, code: str) -> Welcome | None:
    """None where there is none, or it was used, revoked or has expired."""
    row = db.execute(f"{_SELECT} AND w.code_hash = ?", (now_us(), _hash(code))).fetchone()
    return Welcome(*row) if row else None


def open_of(db: sqlite3.Connection, engagement_id: int) -> list[Welcome]:
    """Newest first."""
    rows = db.execute(f"{_SELECT} AND w.engagement_id = ? ORDER BY w.id DESC", (now_us(), engagement_id))
    return [Welcome(*row) for row in rows]


def use(db: sqlite3.Connection, welcome_id: int) -> None:
    db.execute("UPDATE welcome SET used_us = ? WHERE id = ?", (now_us(), welcome_id))


def revoke(db: sqlite3.Connection, welcome_id: int) -> None:
    db.execute("UPDATE welcome SET revoked_us = ? WHERE id = ?", (now_us(), welcome_id))


def _hash(code: str) -> str:
    return hashlib.sha256(code.encode()).hexdigest()
