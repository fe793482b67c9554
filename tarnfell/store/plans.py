"""Plans of load, and each carrying-out of one: a series of runs. What moves a series on stands in
tarnfell/work/placing/carry_out.py.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any, Literal

from tarnfell.core.rates import Flow, Shape, VideoLoad
from tarnfell.store.db import now_us
from tarnfell.store.loads import loads_from_json, loads_to_json

PlanState = Literal["draft", "scheduled", "ended", "dropped"]
SeriesState = Literal["waiting", "running", "done", "stopped", "missed", "failed"]


@dataclass(frozen=True)
class Plan:
    id: int
    site_id: int
    name: str
    probe_id: int
    far_end_id: int
    codec: str
    ptime_ms: int
    dscp: int
    shape: Shape
    direction: Flow
    video: tuple[VideoLoad, ...]
    form: Mapping[str, object]
    """As the person filled it in, to be shown and changed again."""
    state: PlanState
    start_us: int | None
    rule: str | None
    """RFC 5545 recurrence in the site's zone; None for a single start."""
    next_us: int | None
    made_by: int | None
    created_us: int


@dataclass(frozen=True)
class Series:
    id: int
    plan_id: int
    site_id: int
    state: SeriesState
    due_us: int
    began_us: int | None
    ended_us: int | None
    words: str


_PLAN = f"SELECT {', '.join(f.name for f in fields(Plan))} FROM plan"
_SERIES = f"SELECT {', '.join(f.name for f in fields(Series))} FROM series"


def add_plan(db: sqlite3.Connection, **values: Any) -> int:
    """``values`` are the fields of Plan but its number and when it was made."""
    columns = _columns(values) | {"created_us": now_us()}
    names = ", ".join(columns)
    cursor = db.execute(f"INSERT INTO plan ({names}) VALUES ({', '.join('?' * len(columns))})", tuple(columns.values()))
    return int(cursor.lastrowid or 0)


def change_plan(db: sqlite3.Connection, plan_id: int, **values: Any) -> None:
    columns = _columns(values)
    pairs = ", ".join(f"{name} = ?" for name in columns)
    db.execute(f"UPDATE plan SET {pairs} WHERE id = ?", (*columns.values(), plan_id))


def plan_by_id(db: sqlite3.Connection, plan_id: int) -> Plan:
    """Raises KeyError."""
    row = db.execute(f"{_PLAN} WHERE id = ?", (plan_id,)).fetchone()
    if row is None:
        raise KeyError(plan_id)
    return _plan(row)


def plans_of(db: sqlite3.Connection, site_id: int) -> list[Plan]:
    """Drafts and what is scheduled, next first; drafts last."""
    rows = db.execute(
        f"{_PLAN} WHERE site_id = ? AND state IN ('draft', 'scheduled') ORDER BY next_us IS NULL, next_us, id",
        (site_id,),
    )
    return [_plan(row) for row in rows]


def drafts_of(db: sqlite3.Connection, site_id: int) -> list[Plan]:
    return [plan for plan in plans_of(db, site_id) if plan.state == "draft"]


def due_plans(db: sqlite3.Connection, at_us: int) -> list[Plan]:
    rows = db.execute(f"{_PLAN} WHERE state = 'scheduled' AND next_us <= ? ORDER BY next_us", (at_us,))
    return [_plan(row) for row in rows]


def add_series(
    db: sqlite3.Connection, plan: Plan, due_us: int, state: SeriesState = "waiting", words: str = ""
) -> Series:
    ended = now_us() if state == "missed" else None
    cursor = db.execute(
        "INSERT INTO series (plan_id, site_id, state, due_us, ended_us, words) VALUES (?, ?, ?, ?, ?, ?)",
        (plan.id, plan.site_id, state, due_us, ended, words),
    )
    return series_by_id(db, int(cursor.lastrowid or 0))


def series_by_id(db: sqlite3.Connection, series_id: int) -> Series:
    """Raises KeyError."""
    row = db.execute(f"{_SERIES} WHERE id = ?", (series_id,)).fetchone()
    if row is None:
        raise KeyError(series_id)
    return Series(*row)


def open_series(db: sqlite3.Connection, site_id: int | None = None) -> list[Series]:
    """What waits or runs, oldest due first; of one site or of all."""
    rows = db.execute(
        f"{_SERIES} WHERE state IN ('waiting', 'running') AND (? IS NULL OR site_id = ?) ORDER BY due_us, id",
        (site_id, site_id),
    )
    return [Series(*row) for row in rows]


def series_of(db: sqlite3.Connection, site_id: int, limit: int, offset: int = 0) -> list[Series]:
    """Newest first."""
    rows = db.execute(
        f"{_SERIES} WHERE site_id = ? ORDER BY due_us DESC, id DESC LIMIT ? OFFSET ?", (site_id, limit, offset)
    )
    return [Series(*row) for row in rows]


def count_series(db: sqlite3.Connection, site_id: int) -> int:
    return int(db.execute("SELECT count(*) FROM series WHERE site_id = ?", (site_id,)).fetchone()[0])


def missed_since(db: sqlite3.Connection, site_id: int, since_us: int) -> list[Series]:
    """By when they were due."""
    rows = db.execute(
        f"{_SERIES} WHERE site_id = ? AND state = 'missed' AND due_us >= ? ORDER BY due_us, id", (site_id, since_us)
    )
    return [Series(*row) for row in rows]


def begin_series(db: sqlite3.Connection, series_id: int) -> None:
    db.execute("UPDATE series SET state = 'running', began_us = ? WHERE id = ?", (now_us(), series_id))


def end_series(db: sqlite3.Connection, series_id: int, state: SeriesState, words: str) -> None:
    db.execute(
        "UPDATE series SET state = ?, words = ?, ended_us = ? WHERE id = ? AND state IN ('waiting', 'running')",
        (state, words, now_us(), series_id),
    )


def _columns(values: Mapping[str, Any]) -> dict[str, object]:
    packed = dict(values)
    if "shape" in packed:
        packed["shape"] = json.dumps(asdict(packed["shape"]))
    if "video" in packed:
        packed["video"] = loads_to_json(packed["video"])
    if "form" in packed:
        packed["form"] = json.dumps(packed["form"])
    return packed


def _plan(row: sqlite3.Row) -> Plan:
    values = dict(row)
    shape = json.loads(values["shape"])
    values["shape"] = Shape(tuple(shape["steps"]), shape["call_s"], shape["rounds"])
    values["video"] = loads_from_json(values["video"])
    values["form"] = json.loads(values["form"])
    return Plan(**values)
