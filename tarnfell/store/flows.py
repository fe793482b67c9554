"""Loads of packets all alike: as the probe told it, and what was seen in it.

told ──► stale ──► judged, or the reason why it cannot be
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass

from pydantic import TypeAdapter, ValidationError

from tarnfell.core.flow import FlowSeen
from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.flow import FlowPlan, FlowResult

_SEEN = TypeAdapter(FlowSeen)


@dataclass(frozen=True)
class FlowAsked:
    """What the job says of itself; address and key are added when it is given out."""

    far_end_id: int
    plan: FlowPlan


@dataclass(frozen=True)
class Flow:
    job_id: int
    asked: FlowAsked
    seen: FlowSeen | None
    """None until it is judged, and where it cannot be."""
    failure: str | None


def keep(db: sqlite3.Connection, job_id: int, site_id: int, asked: FlowAsked, told: FlowResult) -> None:
    """A second time changes nothing."""
    db.execute(
        "INSERT INTO flow (job_id, site_id, asked, told) VALUES (?, ?, ?, ?) ON CONFLICT (job_id) DO NOTHING",
        (job_id, site_id, json.dumps(plain(asked)), json.dumps(plain(told))),
    )


def stale_one(db: sqlite3.Connection) -> Flow | None:
    """The newest that waits to be judged."""
    row = db.execute("SELECT * FROM flow WHERE stale = 1 ORDER BY job_id DESC LIMIT 1").fetchone()
    return _flow(row) if row else None


def told_of(db: sqlite3.Connection, job_id: int) -> FlowResult:
    row = db.execute("SELECT told FROM flow WHERE job_id = ?", (job_id,)).fetchone()
    return read(FlowResult, json.loads(row[0]))


def keep_judged(db: sqlite3.Connection, job_id: int, seen: FlowSeen | None, failure: str | None = None) -> None:
    body = _SEEN.dump_json(seen).decode() if seen else None
    db.execute(
        "UPDATE flow SET seen = ?, failure = ?, judged_us = ?, stale = 0 WHERE job_id = ?",
        (body, failure, now_us(), job_id),
    )


def judge_unreadable_again(db: sqlite3.Connection) -> None:
    """What an older version judged, and this one cannot read, waits to be judged again."""
    for row in db.execute("SELECT job_id, seen FROM flow WHERE seen IS NOT NULL AND stale = 0").fetchall():
        if _seen(row["seen"]) is None:
            db.execute("UPDATE flow SET stale = 1 WHERE job_id = ?", (row["job_id"],))


def flows_of(db: sqlite3.Connection, site_id: int, limit: int) -> list[Flow]:
    """Newest first."""
    rows = db.execute("SELECT * FROM flow WHERE site_id = ? ORDER BY job_id DESC LIMIT ?", (site_id, limit))
    return [_flow(row) for row in rows]


def _seen(body: str | None) -> FlowSeen | None:
    try:
        return _SEEN.validate_json(body) if body else None
    except ValidationError:
        return None  # of an older version: it is judged again


def _flow(row: sqlite3.Row) -> Flow:
    return Flow(row["job_id"], read(FlowAsked, json.loads(row["asked"])), _seen(row["seen"]), row["failure"])
