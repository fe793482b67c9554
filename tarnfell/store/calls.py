"""Calls: the raw packet record beside what it was judged to be. ``take_in`` is the one way in."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import Codec
from tarnfell.core.quality import Criterion, criterion_for, worst_second_mos
from tarnfell.store import runs
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import now_us
from tarnfell.store.packets import (
    JudgedDirection,
    clock_relation,
    judge_record,
    parse_checked,
    picture_criterion,
    which_and_when,
)
from tarnfell.store.runs import Run
from tarnfell.store.videos import JudgedVideo, add_video, judge_video
from tarnfell.wire import WireError
from tarnfell.wire.record import Record, split_parts

MAX_UPLOAD_BYTES = 256 << 20

COLUMNS = [
    "sent",
    "received",
    "lost",
    "loss_pct",
    "late",
    "duplicates",
    "reordered",
    "jitter_ms",
    "jitter_max_ms",
    "burst_ratio",
    "longest_loss_run",
    "delay_min_ms",
    "delay_p50_ms",
    "pdv_p50_ms",
    "pdv_p95_ms",
    "pdv_p99_ms",
    "pdv_max_ms",
    "effective_loss_pct",
    "mouth_to_ear_ms",
    "r_factor",
    "mos",
    "worst_second_mos",
    "ssrc",
    "dscp_sent",
    "dscp_kept_pct",
    "dscp_received",
    "reason",
]


@dataclass(frozen=True)
class JudgedCall:
    number: int
    started_us: int
    record: bytes
    directions: dict[str, dict[str, Any]]
    """Column values by direction."""


@dataclass(frozen=True)
class JudgedRun:
    """An upload, read and judged, ready to be written."""

    sha256: str
    clock_record: bytes
    self_check: dict[str, Any]
    stopped: bool
    calls: list[JudgedCall]
    video: list[JudgedVideo]
    codec: Codec
    """By whose values the calls were judged."""


def judge_upload(run: Run, body: bytes, codec: Codec) -> JudgedRun:
    """Read and judge a run's record file. Raises WireError; touches no database."""
    parts = split_parts(body)
    if not parts:
        raise WireError("The record file is empty.")
    head = Record.parse(parts[0])
    sound, pictures = parts[1 : run.calls + 1], parts[run.calls + 1 :]
    if len(sound) != run.calls or len(pictures) != run.video_streams:
        had = f"{run.calls} calls" + (f" and {run.video_streams} video streams" if run.video else "")
        raise WireError(f"The record file holds {len(parts) - 1} records; the run had {had}.")
    relation = clock_relation(head)
    criterion = criterion_for(codec, run.ptime_ms)
    calls = [judge_call(part, relation, criterion) for part in sound]
    video = [judge_video(part, relation, picture_criterion(head)) for part in pictures]
    for numbers in ([call.number for call in calls], [stream.number for stream in video]):
        if len(set(numbers)) != len(numbers):
            raise WireError("The record file holds one call or stream twice.")
    return JudgedRun(
        sha256=hashlib.sha256(body).hexdigest(),
        clock_record=parts[0],
        self_check=dict(head.meta.get("self_check") or {}),
        stopped=bool(head.meta.get("stopped")),
        calls=calls,
        video=video,
        codec=codec,
    )


def judge_call(part: bytes, relation: ClockRelation, criterion: Criterion) -> JudgedCall:
    """One call's record judged. Raises WireError."""
    record = parse_checked(part)
    number, started_us = which_and_when(record, "call")
    judged = judge_record(record, relation, criterion)
    return JudgedCall(
        number=number,
        started_us=started_us,
        record=part,
        directions={name: _columns(one, criterion) for name, one in judged.items()},
    )


def _columns(one: JudgedDirection, criterion: Criterion) -> dict[str, Any]:
    values: dict[str, Any] = dict.fromkeys(COLUMNS)
    for count in ("sent", "received", "lost", "late", "duplicates", "reordered", "longest_loss_run"):
        values[count] = 0
    values.update(loss_pct=0.0, jitter_ms=0.0, jitter_max_ms=0.0, burst_ratio=1.0, effective_loss_pct=0.0)
    fields = one.fields()
    values.update({name: value for name, value in fields.items() if name in values})
    values["dscp_received"] = json.dumps(one.dscp_received)
    seen = sum(one.dscp_received.values())
    values["dscp_kept_pct"] = 100 * one.dscp_received.get(str(one.dscp_sent), 0) / seen if seen else None
    if one.trace is not None and one.quality is not None and one.quality.mos is not None:
        values["worst_second_mos"] = worst_second_mos(one.trace, criterion)
    return values


def take_in(db: sqlite3.Connection, run: Run, judged: JudgedRun, at_us: int | None = None) -> None:
    """Write a judged run and end it, inside the caller's transaction. A second time changes nothing."""
    if run.state == "done":
        return
    for call in judged.calls:
        cursor = db.execute(
            "INSERT INTO call (run_id, number, started_us, record) VALUES (?, ?, ?, ?)",
            (run.id, call.number, call.started_us, call.record),
        )
        for direction, values in call.directions.items():
            db.execute(
                f"INSERT INTO direction (call_id, direction, {', '.join(COLUMNS)}) "
                f"VALUES (?, ?, {', '.join('?' * len(COLUMNS))})",
                (cursor.lastrowid, direction, *(values[name] for name in COLUMNS)),
            )
    for stream in judged.video:
        add_video(db, run.id, stream)
    db.execute(
        "UPDATE run SET clock_record = ?, self_check = ?, record_sha256 = ?, tainted = ?, judged_us = ?, stale = ? "
        "WHERE id = ?",
        (
            judged.clock_record,
            json.dumps(judged.self_check),
            judged.sha256,
            int(bool(judged.self_check.get("tainted"))),
            now_us(),
            # The values may have been changed while this was being judged.
            int(judged.codec != codec_of_site(db, run.site_id, run.codec)),
            run.id,
        ),
    )
    words = "Stopped early; what was measured is kept." if judged.stopped else "Measured and judged."
    runs.move(db, run, "done", words, at_us)


Figures = dict[int, dict[str, dict[str, Any]]]
"""Column values by call and direction."""


def judge_again(db: sqlite3.Connection, run: Run, codec: Codec) -> Figures:
    """The calls of a run that is done, judged by ``codec``. Writes nothing."""
    criterion = criterion_for(codec, run.ptime_ms)
    found: Figures = {}
    for call in calls_of_run(db, run.id):
        judged = judge_record(call.record, clock_relation(call.clock), criterion)
        found[call.id] = {name: _columns(one, criterion) for name, one in judged.items()}
    return found


def replace_figures(
    db: sqlite3.Connection, run: Run, codec: Codec, fresh: dict[int, dict[str, dict[str, Any]]]
) -> None:
    """Write what ``judge_again`` found, unless the values have changed again since."""
    if codec != codec_of_site(db, run.site_id, run.codec):
        return
    pairs = ", ".join(f"{name} = ?" for name in COLUMNS)
    for call_id, directions in fresh.items():
        for direction, values in directions.items():
            db.execute(
                f"UPDATE direction SET {pairs} WHERE call_id = ? AND direction = ?",
                (*(values[name] for name in COLUMNS), call_id, direction),
            )
    db.execute("UPDATE run SET stale = 0, judged_us = ? WHERE id = ?", (now_us(), run.id))


_DIRECTION_COLUMNS = ", ".join(f"d.{name}" for name in COLUMNS)


def directions_of_run(db: sqlite3.Connection, run_id: int) -> list[sqlite3.Row]:
    """A row for each direction of each call, with the call's id and number."""
    return db.execute(
        f"SELECT c.id AS call_id, c.number, c.started_us, d.direction, {_DIRECTION_COLUMNS} "
        "FROM call c JOIN direction d ON d.call_id = c.id WHERE c.run_id = ? ORDER BY c.number, d.direction DESC",
        (run_id,),
    ).fetchall()


def directions_of_site(db: sqlite3.Connection, site_id: int) -> Sequence[sqlite3.Row]:
    """A row for each direction of each call of the site, in the order of time."""
    return db.execute(
        f"SELECT c.id AS call_id, c.run_id, c.started_us, r.calls, r.tainted, r.direction AS flow, d.direction, "
        f"{_DIRECTION_COLUMNS} FROM run r JOIN call c ON c.run_id = r.id JOIN direction d ON d.call_id = c.id "
        "WHERE r.site_id = ? ORDER BY c.started_us, c.id",
        (site_id,),
    ).fetchall()


def evidence_mark(db: sqlite3.Connection, site_id: int) -> tuple[int, int]:
    """Changes whenever the site has new evidence, or old evidence judged anew."""
    row = db.execute(
        "SELECT count(judged_us), coalesce(max(judged_us), 0) FROM run WHERE site_id = ? AND state = 'done'", (site_id,)
    ).fetchone()
    return int(row[0]), int(row[1])


@dataclass(frozen=True)
class StoredCall:
    id: int
    run_id: int
    number: int
    started_us: int
    record: Record
    clock: Record


def calls_of_run(db: sqlite3.Connection, run_id: int) -> list[StoredCall]:
    """In the order of their numbers."""
    rows = db.execute("SELECT id FROM call WHERE run_id = ? ORDER BY number", (run_id,)).fetchall()
    return [call_by_id(db, row[0]) for row in rows]


def call_by_id(db: sqlite3.Connection, call_id: int) -> StoredCall:
    """Raises KeyError."""
    row = db.execute(
        "SELECT c.id, c.run_id, c.number, c.started_us, c.record, r.clock_record FROM call c "
        "JOIN run r ON r.id = c.run_id WHERE c.id = ?",
        (call_id,),
    ).fetchone()
    if row is None:
        raise KeyError(call_id)
    return StoredCall(row[0], row[1], row[2], row[3], Record.parse(row[4]), Record.parse(row[5]))
