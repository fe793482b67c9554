"""Lines that were filled: as the probe told it, and as it was judged.

told ──► stale ──► judged, or the reason why it cannot be
           ▲          │
           └── the brief has changed
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass

from pydantic import TypeAdapter, ValidationError

from tarnfell.core.line.values import LineFilled
from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.fill import FillPlan, FillResult

_FILLED = TypeAdapter(LineFilled)


@dataclass(frozen=True)
class FillAsked:
    """What the job of a fill says of itself; addresses and keys are added when it is given out."""

    far_end_id: int
    codec: str
    ptime_ms: int
    plan: FillPlan


@dataclass(frozen=True)
class Fill:
    job_id: int
    site_id: int
    probe_id: int
    far_end_id: int
    asked: FillAsked
    at_us: int
    """When it began."""
    filled: LineFilled | None
    """None until it is judged, and where it cannot be."""
    failure: str | None
    wireless: bool


_FILL = (
    "SELECT fill.job_id, fill.site_id, job.probe_id, fill.far_end_id, asked, at_us, filled, fill.failure, job.medium "
    "FROM fill JOIN job ON job.id = fill.job_id"
)
WI_FI = "Wi-Fi"
"""As a probe tells its link."""


def keep(db: sqlite3.Connection, job_id: int, site_id: int, asked: FillAsked, told: FillResult) -> None:
    """A second time changes nothing."""
    at_us = min((one.from_us for one in told.phases), default=now_us())
    db.execute(
        "INSERT INTO fill (job_id, site_id, far_end_id, asked, at_us, told) VALUES (?, ?, ?, ?, ?, ?) "
        "ON CONFLICT (job_id) DO NOTHING",
        (job_id, site_id, asked.far_end_id, json.dumps(plain(asked)), at_us, json.dumps(plain(told))),
    )


def stale_one(db: sqlite3.Connection) -> Fill | None:
    """The newest that waits to be judged."""
    row = db.execute(f"{_FILL} WHERE stale = 1 ORDER BY fill.job_id DESC LIMIT 1").fetchone()
    return _fill(row) if row else None


def told_of(db: sqlite3.Connection, job_id: int) -> FillResult:
    row = db.execute("SELECT told FROM fill WHERE job_id = ?", (job_id,)).fetchone()
    return read(FillResult, json.loads(row[0]))


def keep_judged(db: sqlite3.Connection, job_id: int, filled: LineFilled | None, failure: str | None = None) -> None:
    body = _FILLED.dump_json(filled).decode() if filled else None
    db.execute(
        "UPDATE fill SET filled = ?, failure = ?, judged_us = ?, stale = 0 WHERE job_id = ?",
        (body, failure, now_us(), job_id),
    )


def judge_again(db: sqlite3.Connection, site_id: int) -> None:
    """What a line must carry has changed."""
    db.execute("UPDATE fill SET stale = 1 WHERE site_id = ?", (site_id,))


def judge_unreadable_again(db: sqlite3.Connection) -> None:
    """What an older version judged, and this one cannot read, waits to be judged again."""
    for row in db.execute("SELECT job_id, filled FROM fill WHERE filled IS NOT NULL AND stale = 0").fetchall():
        if _judged(row["filled"]) is None:
            db.execute("UPDATE fill SET stale = 1 WHERE job_id = ?", (row["job_id"],))


def fill_by_id(db: sqlite3.Connection, job_id: int) -> Fill | None:
    """None where the probe has told nothing of it yet."""
    row = db.execute(f"{_FILL} WHERE fill.job_id = ?", (job_id,)).fetchone()
    return _fill(row) if row else None


def fills_of(db: sqlite3.Connection, site_id: int, limit: int = -1) -> list[Fill]:
    """Newest first."""
    rows = db.execute(f"{_FILL} WHERE fill.site_id = ? ORDER BY fill.job_id DESC LIMIT ?", (site_id, limit))
    return [_fill(row) for row in rows]


def _judged(body: str | None) -> LineFilled | None:
    try:
        return _FILLED.validate_json(body) if body else None
    except ValidationError:
        return None  # of an older version: it is judged again


def _fill(row: sqlite3.Row) -> Fill:
    return Fill(
        job_id=row["job_id"],
        site_id=row["site_id"],
        probe_id=row["probe_id"],
        far_end_id=row["far_end_id"],
        asked=read(FillAsked, json.loads(row["asked"])),
        at_us=row["at_us"],
        filled=_judged(row["filled"]),
        failure=row["failure"],
        wireless=row["medium"] == WI_FI,
    )
