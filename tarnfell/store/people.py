"""Users and their passwords."""

from __future__ import annotations

import hashlib
import hmac
import os
import re
import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us

MIN_PASSWORD = 10
_N, _R, _P = 1 << 14, 8, 1


@dataclass(frozen=True)
class User:
    id: int
    email: str
    name: str


def add_user(db: sqlite3.Connection, email: str, name: str, password: str) -> User:
    """Raises ValueError for what nobody could sign in with, or a password too short to protect anything."""
    if not re.fullmatch(r"[^@\s]+@[^@\s]+", email):
        raise ValueError(f"“{email}” is not an email address; who signs in gives one.")
    if len(password) < MIN_PASSWORD:
        raise ValueError(f"A password has at least {MIN_PASSWORD} characters.")
    cursor = db.execute(
        "INSERT INTO user (email, name, password_hash, created_us) VALUES (?, ?, ?, ?)",
        (email, name, _hash(password, os.urandom(16)), now_us()),
    )
    return User(int(cursor.lastrowid or 0), email, name)


def check_password(db: sqlite3.Connection, email: str, password: str) -> User | None:
    """The user, or None; takes as long for an unknown address as for a wrong password."""
    row = db.execute("SELECT * FROM user WHERE email = ?", (email,)).fetchone()
    kept = row["password_hash"] if row else _hash("", bytes(16))
    salt = bytes.fromhex(kept.split("$")[1])
    right = hmac.compare_digest(kept, _hash(password, salt))
    return User(row["id"], row["email"], row["name"]) if row and right else None


def has_users(db: sqlite3.Connection) -> bool:
    return db.execute("SELECT 1 FROM user LIMIT 1").fetchone() is not None


def get_user(db: sqlite3.Connection, user_id: int) -> User | None:
    row = db.execute("SELECT id, email, name FROM user WHERE id = ?", (user_id,)).fetchone()
    return User(*row) if row else None


def _hash(password: str, salt: bytes) -> str:
    digest = hashlib.scrypt(password.encode(), salt=salt, n=_N, r=_R, p=_P)
    return f"scrypt${salt.hex()}${digest.hex()}"
