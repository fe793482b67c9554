"""Places of a walk-about survey: asked for by name, told by a probe, judged by the clerk.

asked ──► told, stale ──► judged, or the reason why it cannot be
              ▲               │
              └── the brief has changed
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass, replace

from pydantic import TypeAdapter, ValidationError

from tarnfell.core.survey import Place
from tarnfell.store.db import now_us
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.look import LookArguments, LookResult

_PLACE = TypeAdapter(Place)


@dataclass(frozen=True)
class LookAsked:
    """What the job of a look says of itself; the far end's address and key are added when it is given out."""

    look: LookArguments
    far_end_id: int | None = None
    """Of a surveyed place, to which a call is placed."""


@dataclass(frozen=True)
class Surveyed:
    job_id: int
    site_id: int
    far_end_id: int
    name: str
    codec: str
    ptime_ms: int
    told: LookResult | None
    """Without the packets and each round trip (``whole_of``)."""
    judged: Place | None
    failure: str | None
    """Why what was told cannot be judged."""
    removed_us: int | None


_FIELDS = "job_id, site_id, far_end_id, name, codec, ptime_ms, told, judged, failure, removed_us"


def ask(
    db: sqlite3.Connection, job_id: int, site_id: int, far_end_id: int, name: str, codec: str, ptime_ms: int
) -> None:
    db.execute(
        "INSERT INTO survey_place (job_id, site_id, far_end_id, name, codec, ptime_ms) VALUES (?, ?, ?, ?, ?, ?)",
        (job_id, site_id, far_end_id, name, codec, ptime_ms),
    )


def keep_told(db: sqlite3.Connection, job_id: int, told: LookResult) -> bool:
    """Whether the job belongs to a survey at all. A second time changes nothing."""
    known = db.execute("SELECT told FROM survey_place WHERE job_id = ?", (job_id,)).fetchone()
    if known is None:
        return False
    if known["told"] is None:
        shown = replace(told, record=b"", series=tuple(replace(one, rtt_us=()) for one in told.series))
        db.execute(
            "UPDATE survey_place SET whole = ?, told = ?, stale = 1 WHERE job_id = ?",
            (json.dumps(plain(told)), json.dumps(plain(shown)), job_id),
        )
    return True


def stale_one(db: sqlite3.Connection) -> Surveyed | None:
    """The newest that waits to be judged."""
    row = db.execute(f"SELECT {_FIELDS} FROM survey_place WHERE stale = 1 ORDER BY job_id DESC LIMIT 1").fetchone()
    return _surveyed(row) if row else None


def whole_of(db: sqlite3.Connection, job_id: int) -> LookResult:
    """All that the probe told, the call's packets among it."""
    row = db.execute("SELECT whole FROM survey_place WHERE job_id = ?", (job_id,)).fetchone()
    return read(LookResult, json.loads(row["whole"]))


def keep_judged(db: sqlite3.Connection, job_id: int, judged: Place | None, failure: str | None = None) -> None:
    body = _PLACE.dump_json(judged).decode() if judged else None
    db.execute(
        "UPDATE survey_place SET judged = ?, failure = ?, stale = 0 WHERE job_id = ?", (body, failure, job_id)
    )  # fmt: skip


def judge_again(db: sqlite3.Connection, site_id: int) -> None:
    """What an acceptable call must have has changed."""
    db.execute("UPDATE survey_place SET stale = 1 WHERE site_id = ? AND told IS NOT NULL", (site_id,))


def judge_unreadable_again(db: sqlite3.Connection) -> None:
    """What an older version judged, and this one cannot read, waits to be judged again."""
    for row in db.execute("SELECT job_id, judged FROM survey_place WHERE judged IS NOT NULL AND stale = 0").fetchall():
        if _judged(row["judged"]) is None:
            db.execute("UPDATE survey_place SET stale = 1 WHERE job_id = ?", (row["job_id"],))


def change(db: sqlite3.Connection, job_id: int, name: str | None = None, removed: bool | None = None) -> None:
    if name is not None:
        db.execute("UPDATE survey_place SET name = ? WHERE job_id = ?", (name, job_id))
    if removed is not None:
        at = now_us() if removed else None
        db.execute("UPDATE survey_place SET removed_us = ? WHERE job_id = ?", (at, job_id))


def places_of(db: sqlite3.Connection, site_id: int) -> list[Surveyed]:
    """Newest first, the removed ones too."""
    rows = db.execute(f"SELECT {_FIELDS} FROM survey_place WHERE site_id = ? ORDER BY job_id DESC", (site_id,))
    return [_surveyed(row) for row in rows]


def is_of_survey(db: sqlite3.Connection, job_id: int) -> bool:
    return db.execute("SELECT 1 FROM survey_place WHERE job_id = ?", (job_id,)).fetchone() is not None


def _surveyed(row: sqlite3.Row) -> Surveyed:
    values = dict(row)
    told, judged = values.pop("told"), values.pop("judged")
    return Surveyed(
        **values,
        told=read(LookResult, json.loads(told)) if told else None,
        judged=_judged(judged),
    )


def _judged(body: str | None) -> Place | None:
    try:
        return _PLACE.validate_json(body) if body else None
    except ValidationError:
        return None  # of an older version: it is judged again
