"""Whom alerts are sent to, the mail server they go by, and who may read an engagement's figures."""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us

Security = Literal["none", "starttls", "tls"]


@dataclass(frozen=True)
class Targets:
    addresses: tuple[str, ...] = ()
    webhook_url: str = ""
    webhook_secret: str = ""


@dataclass(frozen=True)
class MailServer:
    host: str
    port: int
    security: Security
    user_name: str
    password: str
    sender: str


def targets_of(db: sqlite3.Connection, engagement_id: int) -> Targets:
    row = db.execute(
        "SELECT addresses, webhook_url, webhook_secret FROM alert_target WHERE engagement_id = ?", (engagement_id,)
    ).fetchone()
    return Targets(tuple(json.loads(row[0])), row[1], row[2]) if row else Targets()


def keep_targets(db: sqlite3.Connection, engagement_id: int, targets: Targets) -> None:
    db.execute(
        "INSERT OR REPLACE INTO alert_target (engagement_id, addresses, webhook_url, webhook_secret) "
        "VALUES (?, ?, ?, ?)",
        (engagement_id, json.dumps(targets.addresses), targets.webhook_url, targets.webhook_secret),
    )


def new_secret() -> str:
    return secrets.token_urlsafe(32)


_SERVER = ", ".join(f.name for f in fields(MailServer))


def mail_server(db: sqlite3.Connection) -> MailServer | None:
    row = db.execute(f"SELECT {_SERVER} FROM mail_server").fetchone()
    return MailServer(*row) if row else None


def keep_mail_server(db: sqlite3.Connection, server: MailServer | None) -> None:
    """None: mail is sent no more."""
    db.execute("DELETE FROM mail_server")
    if server:
        db.execute(
            f"INSERT INTO mail_server (id, {_SERVER}) VALUES (1, ?, ?, ?, ?, ?, ?)",
            (server.host, server.port, server.security, server.user_name, server.password, server.sender),
        )


def new_metrics_token(db: sqlite3.Connection, engagement_id: int) -> str:
    """The one before it opens nothing any more."""
    token = secrets.token_urlsafe(32)
    db.execute(
        "INSERT OR REPLACE INTO metrics_token (engagement_id, hash, made_us) VALUES (?, ?, ?)",
        (engagement_id, _hash(token), now_us()),
    )
    return token


def drop_metrics_token(db: sqlite3.Connection, engagement_id: int) -> None:
    db.execute("DELETE FROM metrics_token WHERE engagement_id = ?", (engagement_id,))


def metrics_token_made_us(db: sqlite3.Connection, engagement_id: int) -> int | None:
    row = db.execute("SELECT made_us FROM metrics_token WHERE engagement_id = ?", (engagement_id,)).fetchone()
    return row[0] if row else None


def is_metrics_token(db: sqlite3.Connection, engagement_id: int, token: str) -> bool:
    row = db.execute("SELECT hash FROM metrics_token WHERE engagement_id = ?", (engagement_id,)).fetchone()
    return row is not None and hmac.compare_digest(row[0], _hash(token))


def _hash(token: str) -> str:
    # Long and random: a plain hash keeps it out of the file.
    return hashlib.sha256(token.encode()).hexdigest()
