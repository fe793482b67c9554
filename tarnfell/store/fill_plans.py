"""Line fills that are to come. What begins them stands in tarnfell/work/placing/fill_plans.py."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Literal

from tarnfell.store.db import now_us
from tarnfell.store.fills import FillAsked
from tarnfell.wire.kinds.fields import plain, read

FillPlanState = Literal["scheduled", "ended", "dropped"]


@dataclass(frozen=True)
class FillPlanned:
    id: int
    site_id: int
    probe_id: int
    asked: FillAsked
    start_us: int
    rule: str | None
    """RFC 5545 recurrence in the site's zone; None for a single start."""
    next_us: int | None
    state: FillPlanState
    last_us: int | None
    """When it was last due."""
    last_job: int | None
    last_words: str
    """Why it was left out then; empty where it was not."""
    made_by: int | None


_FIELDS = (
    "id, site_id, probe_id, asked, start_us, rule, next_us, state, last_us, last_job, last_words, made_by"
)  # fmt: skip


def add(
    db: sqlite3.Connection, site_id: int, probe_id: int, asked: FillAsked, start_us: int, rule: str | None,
    made_by: int | None,
) -> int:  # fmt: skip
    cursor = db.execute(
        "INSERT INTO fill_plan (site_id, probe_id, asked, start_us, rule, next_us, state, made_by, created_us)"
        " VALUES (?, ?, ?, ?, ?, ?, 'scheduled', ?, ?)",
        (site_id, probe_id, json.dumps(plain(asked)), start_us, rule, start_us, made_by, now_us()),
    )
    return int(cursor.lastrowid or 0)


def change(
    db: sqlite3.Connection, plan_id: int, probe_id: int, asked: FillAsked, start_us: int, rule: str | None
) -> None:
    """It begins anew at its start; what became of the newest start stays told."""
    db.execute(
        "UPDATE fill_plan SET probe_id = ?, asked = ?, start_us = ?, rule = ?, next_us = ? WHERE id = ?",
        (probe_id, json.dumps(plain(asked)), start_us, rule, start_us, plan_id),
    )


def due(db: sqlite3.Connection, at_us: int) -> list[FillPlanned]:
    """Earliest first."""
    rows = db.execute(
        f"SELECT {_FIELDS} FROM fill_plan WHERE state = 'scheduled' AND next_us <= ? ORDER BY next_us, id", (at_us,)
    )
    return [_planned(row) for row in rows]


def scheduled_of(db: sqlite3.Connection, site_id: int) -> list[FillPlanned]:
    """Of a site, next first."""
    rows = db.execute(
        f"SELECT {_FIELDS} FROM fill_plan WHERE site_id = ? AND state = 'scheduled' ORDER BY next_us, id", (site_id,)
    )
    return [_planned(row) for row in rows]


def by_id(db: sqlite3.Connection, plan_id: int) -> FillPlanned | None:
    row = db.execute(f"SELECT {_FIELDS} FROM fill_plan WHERE id = ?", (plan_id,)).fetchone()
    return _planned(row) if row else None


def keep_start(
    db: sqlite3.Connection, plan_id: int, due_us: int, next_us: int | None, job: int | None, words: str
) -> None:
    """What became of a start, and when the next is: None where there is none."""
    db.execute(
        "UPDATE fill_plan SET last_us = ?, last_job = ?, last_words = ?, next_us = ?, state = ? WHERE id = ?",
        (due_us, job, words, next_us, "ended" if next_us is None else "scheduled", plan_id),
    )


def drop(db: sqlite3.Connection, plan_id: int) -> None:
    db.execute("UPDATE fill_plan SET state = 'dropped', next_us = NULL WHERE id = ?", (plan_id,))


def _planned(row: sqlite3.Row) -> FillPlanned:
    return FillPlanned(**{**dict(row), "asked": read(FillAsked, json.loads(row["asked"]))})
