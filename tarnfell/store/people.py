"""Users and their passwords."""

from __future__ import annotations

import re
import sqlite3
from dataclasses import dataclass

from tarnfell.store import sessions
from tarnfell.store.db import now_us
from tarnfell.store.hashing import NOBODYS, fits, hashed

MIN_PASSWORD = 10


@dataclass(frozen=True)
class User:
    id: int
    email: str
    name: str
    outside: bool
    """Came as a customer: sees nothing but what engagements show to customers."""


def add_user(db: sqlite3.Connection, email: str, name: str, password: str, outside: bool = False) -> User:
    """Raises ValueError for what nobody could sign in with, or a password too short to protect anything.

    IntegrityError for somebody who can sign in already; who was removed may come back.
    """
    if not re.fullmatch(r"[^@\s]+@[^@\s]+", email):
        raise ValueError(f"“{email}” is not an email address; who signs in gives one.")
    kept = _new_hash(password)
    cursor = db.execute(
        "UPDATE user SET name = ?, password_hash = ?, outside = ?, removed_us = NULL "
        "WHERE email = ? AND removed_us IS NOT NULL RETURNING id",
        (name, kept, int(outside), email),
    )
    back = cursor.fetchone()
    if back:
        return User(back[0], email, name, outside)
    cursor = db.execute(
        "INSERT INTO user (email, name, password_hash, outside, created_us) VALUES (?, ?, ?, ?, ?)",
        (email, name, kept, int(outside), now_us()),
    )
    return User(int(cursor.lastrowid or 0), email, name, outside)


def set_password(db: sqlite3.Connection, email: str, password: str, but: int | None = None) -> None:
    """Ends every session of that user but the one given. Raises KeyError for nobody, ValueError for a password too
    short."""
    kept = _new_hash(password)
    user = _require(db, email)
    db.execute("UPDATE user SET password_hash = ? WHERE id = ?", (kept, user.id))
    sessions.end_all(db, user.id, but)


def remove_user(db: sqlite3.Connection, email: str) -> None:
    """Lets somebody sign in no more, and out of every engagement. Raises KeyError for nobody."""
    user = _require(db, email)
    db.execute("UPDATE user SET removed_us = ? WHERE id = ?", (now_us(), user.id))
    db.execute("DELETE FROM member WHERE user_id = ?", (user.id,))
    sessions.end_all(db, user.id)


def rename(db: sqlite3.Connection, user_id: int, name: str) -> None:
    db.execute("UPDATE user SET name = ? WHERE id = ?", (name, user_id))


def user_by_email(db: sqlite3.Connection, email: str) -> User | None:
    """Who may sign in with it."""
    row = db.execute("SELECT * FROM user WHERE email = ? AND removed_us IS NULL", (email,)).fetchone()
    return _user(row) if row else None


def _require(db: sqlite3.Connection, email: str) -> User:
    user = user_by_email(db, email)
    if user is None:
        raise KeyError(email)
    return user


def users(db: sqlite3.Connection) -> list[User]:
    """Who may sign in, by address."""
    rows = db.execute("SELECT * FROM user WHERE removed_us IS NULL ORDER BY email COLLATE NOCASE")
    return [_user(row) for row in rows]


def check_password(db: sqlite3.Connection, email: str, password: str) -> User | None:
    """The user, or None; takes as long for an unknown address as for a wrong password."""
    row = db.execute("SELECT * FROM user WHERE email = ? AND removed_us IS NULL", (email,)).fetchone()
    right = fits(password, row["password_hash"] if row else NOBODYS)
    return _user(row) if row and right else None


def has_users(db: sqlite3.Connection) -> bool:
    return db.execute("SELECT 1 FROM user WHERE removed_us IS NULL LIMIT 1").fetchone() is not None


def get_user(db: sqlite3.Connection, user_id: int) -> User | None:
    row = db.execute("SELECT * FROM user WHERE id = ? AND removed_us IS NULL", (user_id,)).fetchone()
    return _user(row) if row else None


def _user(row: sqlite3.Row) -> User:
    return User(row["id"], row["email"], row["name"], bool(row["outside"]))


def _new_hash(password: str) -> str:
    if len(password) < MIN_PASSWORD:
        raise ValueError(f"A password has at least {MIN_PASSWORD} characters.")
    return hashed(password)
