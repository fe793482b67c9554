"""Probes: enrolment by a one-time token, then a secret of their own. Only hashes are kept."""

from __future__ import annotations

import hashlib
import json
import secrets
import sqlite3
from dataclasses import dataclass
from typing import Any

from tarnfell.store.db import now_us

TOKEN_LIFE_US = 14 * 24 * 3600 * 1_000_000


@dataclass(frozen=True)
class Probe:
    id: int
    site_id: int
    name: str
    spot: str
    environment: dict[str, Any]
    last_heard_us: int | None


def add_probe(db: sqlite3.Connection, site_id: int, name: str, spot: str) -> tuple[int, str]:
    """A probe that is yet to enrol; returns its number and the one-time token."""
    token = secrets.token_hex(20)
    cursor = db.execute(
        "INSERT INTO probe (site_id, name, spot, token_hash, token_until_us, created_us) VALUES (?, ?, ?, ?, ?, ?)",
        (site_id, name, spot, _hash(token), now_us() + TOKEN_LIFE_US, now_us()),
    )
    return int(cursor.lastrowid or 0), token


def renew_token(db: sqlite3.Connection, probe_id: int, until_us: int) -> str:
    """A new one-time token; the probe's present secret holds until it is used."""
    token = secrets.token_hex(20)
    db.execute("UPDATE probe SET token_hash = ?, token_until_us = ? WHERE id = ?", (_hash(token), until_us, probe_id))
    return token


def enrol(db: sqlite3.Connection, token: str, environment: dict[str, Any]) -> tuple[Probe, str] | None:
    """Trade the token for a secret, once; None for a token that is unknown, used or expired."""
    secret = secrets.token_urlsafe(32)
    cursor = db.execute(
        "UPDATE probe SET secret_hash = ?, token_hash = NULL, environment = ?, last_heard_us = ? "
        "WHERE token_hash = ? AND token_until_us > ? RETURNING id",
        (_hash(secret), json.dumps(environment), now_us(), _hash(token), now_us()),
    )
    row = cursor.fetchone()
    return (probe_by_id(db, row[0]), secret) if row else None


def probe_by_secret(db: sqlite3.Connection, secret: str) -> Probe | None:
    row = db.execute(f"{_SELECT} WHERE secret_hash = ?", (_hash(secret),)).fetchone()
    return _probe(row) if row else None


def probe_by_id(db: sqlite3.Connection, probe_id: int) -> Probe:
    return _probe(db.execute(f"{_SELECT} WHERE id = ?", (probe_id,)).fetchone())


def probes_of(db: sqlite3.Connection, site_id: int) -> list[Probe]:
    return [_probe(row) for row in db.execute(f"{_SELECT} WHERE site_id = ? ORDER BY id", (site_id,))]


def heard(db: sqlite3.Connection, probe_id: int, environment: dict[str, Any]) -> None:
    db.execute(
        "UPDATE probe SET last_heard_us = ?, environment = ? WHERE id = ?",
        (now_us(), json.dumps(environment), probe_id),
    )


_SELECT = "SELECT id, site_id, name, spot, environment, last_heard_us FROM probe"


def _probe(row: sqlite3.Row) -> Probe:
    return Probe(row[0], row[1], row[2], row[3], json.loads(row[4]), row[5])


def _hash(secret: str) -> str:
    # Secrets are long and random; a plain hash keeps them out of the file without slowing each heartbeat.
    return hashlib.sha256(secret.encode()).hexdigest()
