"""What a watch has done beside its samples: how often, and what became of it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.services import ServicesResult

What = Literal["call", "needed", "fill", "services"]
"""A call, the calls and video that the brief needs, a line fill, and names and services."""


@dataclass(frozen=True)
class Routine:
    watch_id: int
    what: What
    every_s: int
    asked_by: int | None
    next_us: int
    begun_us: int | None
    """The newest start that took place."""
    left_us: int | None
    """The newest that was left out, and why."""
    left_words: str


_ROUTINE = ", ".join(f.name for f in fields(Routine))


def want(db: sqlite3.Connection, watch_id: int, wanted: Mapping[What, int], asked_by: int | None) -> None:
    """Each of these every so many seconds from now on, and nothing else; what goes on as it was keeps its turn."""
    known = {one.what: one for one in routines_of(db, watch_id)}
    for what in known.keys() - wanted.keys():
        db.execute("DELETE FROM routine WHERE watch_id = ? AND what = ?", (watch_id, what))
    for what, every_s in wanted.items():
        if what not in known:
            db.execute(
                "INSERT INTO routine (watch_id, what, every_s, asked_by, next_us) VALUES (?, ?, ?, ?, ?)",
                (watch_id, what, every_s, asked_by, now_us()),
            )
        elif known[what].every_s != every_s:
            db.execute(
                "UPDATE routine SET every_s = ?, asked_by = ?, next_us = min(next_us, ?) "
                "WHERE watch_id = ? AND what = ?",
                (every_s, asked_by, now_us() + every_s * 1_000_000, watch_id, what),
            )


def routines_of(db: sqlite3.Connection, watch_id: int) -> list[Routine]:
    return [Routine(*row) for row in db.execute(f"SELECT {_ROUTINE} FROM routine WHERE watch_id = ?", (watch_id,))]


def due(db: sqlite3.Connection, at_us: int) -> list[Routine]:
    """Of watches that are wanted, the longest due first."""
    rows = db.execute(
        f"SELECT {_ROUTINE} FROM routine WHERE next_us <= ? AND watch_id IN (SELECT id FROM watch WHERE wanted = 1) "
        "ORDER BY next_us, watch_id, what",
        (at_us,),
    )
    return [Routine(*row) for row in rows]


def keep_begun(db: sqlite3.Connection, one: Routine, at_us: int, next_us: int) -> None:
    db.execute(
        "UPDATE routine SET begun_us = ?, next_us = ? WHERE watch_id = ? AND what = ?",
        (at_us, next_us, one.watch_id, one.what),
    )


def keep_left(db: sqlite3.Connection, one: Routine, at_us: int, next_us: int, words: str) -> None:
    """Empty ``words`` where it was not meant to take place then."""
    if words:
        db.execute(
            "UPDATE routine SET left_us = ?, left_words = ? WHERE watch_id = ? AND what = ?",
            (at_us, words, one.watch_id, one.what),
        )
    db.execute("UPDATE routine SET next_us = ? WHERE watch_id = ? AND what = ?", (next_us, one.watch_id, one.what))


@dataclass(frozen=True)
class ServicesTold:
    at_us: int
    told: ServicesResult


def keep_services(db: sqlite3.Connection, job_id: int, probe_id: int, at_us: int, told: ServicesResult) -> None:
    """A second time changes nothing."""
    db.execute(
        "INSERT INTO services_told (job_id, probe_id, at_us, told) VALUES (?, ?, ?, ?) ON CONFLICT (job_id) DO NOTHING",
        (job_id, probe_id, at_us, json.dumps(plain(told))),
    )


def services_between(db: sqlite3.Connection, probe_id: int, from_us: int, until_us: int) -> list[ServicesTold]:
    """In the order of time."""
    rows = db.execute(
        "SELECT at_us, told FROM services_told WHERE probe_id = ? AND at_us >= ? AND at_us < ? ORDER BY at_us",
        (probe_id, from_us, until_us),
    )
    return [ServicesTold(row[0], read(ServicesResult, json.loads(row[1]))) for row in rows]


def asks_services(db: sqlite3.Connection, probe_id: int, since_us: int) -> bool:
    row = db.execute("SELECT 1 FROM services_told WHERE probe_id = ? AND at_us >= ? LIMIT 1", (probe_id, since_us))
    return row.fetchone() is not None
