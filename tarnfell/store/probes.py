"""Probes and the links that bring them in. Of a probe's own secret only the hash is kept.

An invitation's code enrols one machine, once, until it expires or is revoked; it is kept in the clear so that its
link can be shown again, and it is worth nothing once used.
"""

from __future__ import annotations

import hashlib
import json
import secrets
import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store import presence
from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.surroundings import Surroundings, surroundings_of

Kind = Literal["program", "browser"]
"""A program of ours that works until it is told to end, or a page in a browser."""
INVITATION_LIFE_US = 14 * 24 * 3600 * 1_000_000


@dataclass(frozen=True)
class Probe:
    id: int
    site_id: int
    test_point_id: int
    test_point: str
    """The test point's name."""
    name: str
    around: Surroundings
    contact_address: str | None
    enrolled_us: int | None
    last_contact_us: int | None
    retired_us: int | None
    created_us: int
    clock_off_us: int | None
    """Its clock less this server's, as it last told; None where it does not tell."""
    kind: Kind = "program"


@dataclass(frozen=True)
class Invitation:
    id: int
    probe_id: int
    code: str
    invited_by: int | None
    created_us: int
    until_us: int
    opened_us: int | None
    fetched_us: int | None
    used_us: int | None
    revoked_us: int | None

    @property
    def good(self) -> bool:
        """Whether the code still enrols a machine."""
        return self.used_us is None and self.revoked_us is None and self.until_us > now_us()


def add_probe(db: sqlite3.Connection, site_id: int, test_point_id: int, name: str, kind: Kind = "program") -> int:
    cursor = db.execute(
        "INSERT INTO probe (site_id, test_point_id, name, kind, created_us) VALUES (?, ?, ?, ?, ?)",
        (site_id, test_point_id, name, kind, now_us()),
    )
    return int(cursor.lastrowid or 0)


def invite(db: sqlite3.Connection, probe_id: int, invited_by: int | None = None, until_us: int | None = None) -> str:
    """A new code for this probe or browser; those before it stop working."""
    code = secrets.token_hex(14)
    at = now_us()
    db.execute("UPDATE invitation SET revoked_us = ? WHERE probe_id = ? AND revoked_us IS NULL AND used_us IS NULL",
               (at, probe_id))  # fmt: skip
    db.execute(
        "INSERT INTO invitation (probe_id, code, invited_by, created_us, until_us) VALUES (?, ?, ?, ?, ?)",
        (probe_id, code, invited_by, at, at + INVITATION_LIFE_US if until_us is None else until_us),
    )
    return code


def revoke(db: sqlite3.Connection, probe_id: int) -> None:
    db.execute(
        "UPDATE invitation SET revoked_us = ? WHERE probe_id = ? AND used_us IS NULL AND revoked_us IS NULL",
        (now_us(), probe_id),
    )


def invitation_by_code(db: sqlite3.Connection, code: str) -> Invitation | None:
    row = db.execute(f"{_INVITATION} WHERE code = ?", (code,)).fetchone()
    return Invitation(*row) if row else None


def newest_invitation(db: sqlite3.Connection, probe_id: int) -> Invitation | None:
    row = db.execute(f"{_INVITATION} WHERE probe_id = ? ORDER BY id DESC LIMIT 1", (probe_id,)).fetchone()
    return Invitation(*row) if row else None


def note_invitation(db: sqlite3.Connection, invitation: Invitation, what: str) -> None:
    """Keep when it was first ``opened`` or ``fetched``."""
    column = {"opened": "opened_us", "fetched": "fetched_us"}[what]
    db.execute(f"UPDATE invitation SET {column} = coalesce({column}, ?) WHERE id = ?", (now_us(), invitation.id))


def enrol(db: sqlite3.Connection, code: str, around: Surroundings) -> tuple[Probe, str] | None:
    """Trade a good code for a secret, once; None for one that is unknown, used, revoked or expired.

    A probe may be killed between this and keeping what it was told. Its code is good again until its secret has
    spoken for the first time; the secret before is then void.
    """
    at = now_us()
    row = db.execute(
        "UPDATE invitation SET used_us = ? WHERE code = ? AND revoked_us IS NULL AND until_us > ? "
        "AND EXISTS (SELECT 1 FROM probe WHERE probe.id = probe_id AND kind = 'program') "
        "AND (used_us IS NULL OR EXISTS (SELECT 1 FROM probe WHERE probe.id = probe_id "
        "AND enrolled_us = used_us AND last_contact_us = enrolled_us)) RETURNING probe_id",
        (at, code, at),
    ).fetchone()
    if row is None:
        return None
    secret = secrets.token_urlsafe(32)
    db.execute(
        "UPDATE probe SET secret_hash = ?, environment = ?, enrolled_us = ?, last_contact_us = ?, retired_us = NULL "
        "WHERE id = ?",
        (_hash(secret), _told(around), at, at, row[0]),
    )
    return probe_by_id(db, row[0]), secret


def probe_by_secret(db: sqlite3.Connection, secret: str) -> Probe | None:
    row = db.execute(f"{_PROBE} WHERE secret_hash = ?", (_hash(secret),)).fetchone()
    return _probe(row) if row else None


def probe_by_id(db: sqlite3.Connection, probe_id: int) -> Probe:
    """Raises KeyError."""
    row = db.execute(f"{_PROBE} WHERE probe.id = ?", (probe_id,)).fetchone()
    if row is None:
        raise KeyError(probe_id)
    return _probe(row)


def probes_of(db: sqlite3.Connection, site_id: int, kind: Kind = "program") -> list[Probe]:
    """The ones at work; retired probes are kept but not listed."""
    rows = db.execute(
        f"{_PROBE} WHERE probe.site_id = ? AND probe.kind = ? AND retired_us IS NULL ORDER BY probe.id", (site_id, kind)
    )
    return [_probe(row) for row in rows]


def measured_test_points(db: sqlite3.Connection, site_id: int) -> list[str]:
    """Names of the test points that runs were carried out from, most runs first; those of retired probes count too."""
    rows = db.execute(
        "SELECT test_point.name FROM probe JOIN test_point ON test_point.id = probe.test_point_id "
        "CROSS JOIN job ON job.probe_id = probe.id AND job.state = 'done' AND job.kind = 'calls' "
        "WHERE probe.site_id = ? GROUP BY test_point.id ORDER BY count(*) DESC, test_point.name",
        (site_id,),
    )
    return [row[0] for row in rows]


def change_probe(db: sqlite3.Connection, probe_id: int, name: str, test_point_id: int) -> None:
    db.execute("UPDATE probe SET name = ?, test_point_id = ? WHERE id = ?", (name, test_point_id, probe_id))


def keep_contact(
    db: sqlite3.Connection,
    probe_id: int,
    around: Surroundings | None,
    address: str | None,
    clock_off_us: int | None = None,
) -> None:
    """The probe spoke just now; None leaves what is known of its environment."""
    presence.note_return(db, probe_id)
    db.execute(
        "UPDATE probe SET last_contact_us = ?, environment = coalesce(?, environment), contact_address = ?, "
        "clock_off_us = ? WHERE id = ?",
        (now_us(), None if around is None else _told(around), address, clock_off_us, probe_id),
    )


def retire(db: sqlite3.Connection, probe_id: int) -> None:
    db.execute("UPDATE probe SET retired_us = ? WHERE id = ?", (now_us(), probe_id))


_INVITATION = f"SELECT {', '.join(f.name for f in fields(Invitation))} FROM invitation"
_PROBE = (
    "SELECT probe.id, probe.site_id, test_point_id, test_point.name AS test_point, probe.name, environment, "
    "contact_address, enrolled_us, last_contact_us, retired_us, probe.created_us, clock_off_us, probe.kind FROM probe "
    "JOIN test_point ON test_point.id = test_point_id"
)


def _probe(row: sqlite3.Row) -> Probe:
    values = dict(row)
    around = surroundings_of(json.loads(values.pop("environment")))
    return Probe(**values, around=around)


def _told(around: Surroundings) -> str:
    return json.dumps(plain(around))


def _hash(secret: str) -> str:
    # Secrets are long and random; a plain hash keeps them out of the file without slowing each heartbeat.
    return hashlib.sha256(secret.encode()).hexdigest()
