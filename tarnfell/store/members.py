"""Who belongs to which engagement, and as what."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal

from tarnfell.store.db import now_us

Role = Literal["customer", "colleague", "consultant"]
ROLES: tuple[Role, ...] = ("customer", "colleague", "consultant")
"""Each may what the ones before it may."""


class LastConsultant(Exception):
    """An engagement would be left that nobody can give to anybody."""


@dataclass(frozen=True)
class Member:
    user_id: int
    name: str
    email: str
    role: Role
    since_us: int


def role_of(db: sqlite3.Connection, engagement_id: int, user_id: int) -> Role | None:
    row = db.execute(
        "SELECT role FROM member WHERE engagement_id = ? AND user_id = ?", (engagement_id, user_id)
    ).fetchone()
    return row[0] if row else None


def members_of(db: sqlite3.Connection, engagement_id: int) -> list[Member]:
    """By role, the one who may most first, then by name."""
    rows = db.execute(
        "SELECT u.id, u.name, u.email, m.role, m.since_us FROM member m JOIN user u ON u.id = m.user_id "
        "WHERE m.engagement_id = ? AND u.removed_us IS NULL ORDER BY u.name COLLATE NOCASE, u.id",
        (engagement_id,),
    )
    return sorted((Member(*row) for row in rows), key=lambda one: -ROLES.index(one.role))


def roles_of(db: sqlite3.Connection, user_id: int) -> dict[int, Role]:
    """By engagement."""
    return dict(db.execute("SELECT engagement_id, role FROM member WHERE user_id = ?", (user_id,)).fetchall())


def join(db: sqlite3.Connection, engagement_id: int, user_id: int, role: Role) -> None:
    """Or take another role there. Whoever comes as more than a customer is one no longer. Raises LastConsultant."""
    if role != "consultant":
        _check_left(db, engagement_id, user_id)
    db.execute(
        "INSERT INTO member (engagement_id, user_id, role, since_us) VALUES (?, ?, ?, ?) "
        "ON CONFLICT (engagement_id, user_id) DO UPDATE SET role = excluded.role",
        (engagement_id, user_id, role, now_us()),
    )
    if role != "customer":
        db.execute("UPDATE user SET outside = 0 WHERE id = ?", (user_id,))


def adopt(db: sqlite3.Connection, user_id: int) -> None:
    """Become the consultant of engagements that have none who can sign in: nobody could give them to anybody."""
    db.execute(
        "INSERT INTO member (engagement_id, user_id, role, since_us) SELECT e.id, ?, 'consultant', ? FROM engagement e "
        "WHERE NOT EXISTS (SELECT 1 FROM member m JOIN user u ON u.id = m.user_id WHERE m.engagement_id = e.id "
        "AND m.role = 'consultant' AND u.removed_us IS NULL) "
        "ON CONFLICT (engagement_id, user_id) DO UPDATE SET role = 'consultant'",
        (user_id, now_us()),
    )


def leave(db: sqlite3.Connection, engagement_id: int, user_id: int) -> None:
    """Raises LastConsultant."""
    _check_left(db, engagement_id, user_id)
    db.execute("DELETE FROM member WHERE engagement_id = ? AND user_id = ?", (engagement_id, user_id))


def _check_left(db: sqlite3.Connection, engagement_id: int, user_id: int) -> None:
    """That somebody else can give the engagement to others, where this one can."""
    if role_of(db, engagement_id, user_id) != "consultant":
        return
    others = [one for one in members_of(db, engagement_id) if one.role == "consultant" and one.user_id != user_id]
    if not others:
        raise LastConsultant
