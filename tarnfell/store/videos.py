"""Video streams: what each run held beside its calls, as JSON; the raw packet record, and what it was judged to be."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Any

from tarnfell.core.clock import ClockRelation
from tarnfell.core.picture import Picture, PictureCriterion, judge_picture
from tarnfell.core.rates import VideoLoad
from tarnfell.core.video import VideoError, VideoProfile, find_profile
from tarnfell.store.packets import dscp_counts, flowing, known_delay, parse_checked, trace_of, which_and_when
from tarnfell.wire import WireError
from tarnfell.wire.record import Record

COLUMNS = (
    "sent",
    "received",
    "lost",
    "loss_pct",
    "late",
    "reordered",
    "duplicates",
    "delay_p50_ms",
    "pdv_p95_ms",
    "frames",
    "whole",
    "shown",
    "freezes",
    "frozen_ms",
    "longest_freeze_ms",
    "mean_fps",
    "worst_second_fps",
    "score",
    "ssrc",
    "dscp_sent",
    "dscp_received",
    "reason",
)
_COUNTS = ("sent", "received", "lost", "loss_pct", "late", "reordered", "duplicates", "frames", "whole", "shown",
           "freezes", "frozen_ms", "longest_freeze_ms")  # fmt: skip


def loads_to_json(loads: Iterable[VideoLoad]) -> str:
    return json.dumps([asdict(load) for load in loads])


def loads_from_json(text: str) -> tuple[VideoLoad, ...]:
    return tuple(VideoLoad(**one) for one in json.loads(text))


@dataclass(frozen=True)
class JudgedVideo:
    number: int
    profile: str
    started_us: int
    record: bytes
    directions: dict[str, dict[str, Any]]
    """Column values by direction."""


def profile_of(record: Record) -> VideoProfile:
    """Raises WireError."""
    try:
        return find_profile(str(record.meta.get("profile")))
    except VideoError as error:
        raise WireError(f"Packet record: {error}") from None


def judge_video(part: bytes, relation: ClockRelation, criterion: PictureCriterion) -> JudgedVideo:
    """One stream's record judged. Raises WireError."""
    record = parse_checked(part)
    number, started_us = which_and_when(record, "video")
    return JudgedVideo(
        number=number,
        profile=profile_of(record).name,
        started_us=started_us,
        record=part,
        directions={
            direction: picture_columns(record, direction, relation, criterion) for direction in flowing(record)
        },
    )


def picture_columns(
    record: Record, direction: str, relation: ClockRelation, criterion: PictureCriterion
) -> dict[str, Any]:
    """One direction judged, by the names of the columns. Raises WireError."""
    about = record.meta.get(direction)
    if not isinstance(about, dict):
        raise WireError(f"Packet record: nothing about the direction {direction}.")
    marks = dscp_counts(record, direction)
    values: dict[str, Any] = dict.fromkeys(COLUMNS) | dict.fromkeys(_COUNTS, 0) | {
        "ssrc": int(about.get("ssrc", 0)),
        "dscp_sent": int(about.get("dscp_sent", 0)),
        "dscp_received": json.dumps(marks),
    }  # fmt: skip
    trace = trace_of(record, direction, relation)
    if trace is None:
        return values | {"reason": "Nothing was sent: the media port did not answer before the run."}
    judged = judge_picture(trace, profile_of(record), criterion)
    fields = _flat(judged)
    if not known_delay(relation):
        fields["delay_p50_ms"] = None
    values |= {name: fields[name] for name in COLUMNS if name in fields}
    return values | {"reason": None if judged.metrics.received else "Nothing arrived."}


def _flat(judged: Picture) -> dict[str, Any]:
    flat = asdict(judged)
    return {**flat.pop("metrics"), **flat}


def add_video(db: sqlite3.Connection, run_id: int, judged: JudgedVideo) -> None:
    cursor = db.execute(
        "INSERT INTO video_stream (run_id, number, profile, started_us, record) VALUES (?, ?, ?, ?, ?)",
        (run_id, judged.number, judged.profile, judged.started_us, judged.record),
    )
    for direction, values in judged.directions.items():
        db.execute(
            f"INSERT INTO picture (video_stream_id, direction, {', '.join(COLUMNS)}) "
            f"VALUES (?, ?, {', '.join('?' * len(COLUMNS))})",
            (cursor.lastrowid, direction, *(values[name] for name in COLUMNS)),
        )


_PICTURE = ", ".join(f"p.{name}" for name in COLUMNS)


def pictures_of_run(db: sqlite3.Connection, run_id: int) -> list[sqlite3.Row]:
    """A row for each direction of each stream, with the stream's id, number and profile."""
    return db.execute(
        f"SELECT v.id AS stream_id, v.number, v.profile, v.started_us, p.direction, {_PICTURE} "
        "FROM video_stream v JOIN picture p ON p.video_stream_id = v.id WHERE v.run_id = ? "
        "ORDER BY v.number, p.direction DESC",
        (run_id,),
    ).fetchall()


def pictures_of_site(db: sqlite3.Connection, site_id: int) -> list[sqlite3.Row]:
    """A row for each direction of each stream of the site, in the order of time."""
    return db.execute(
        f"SELECT v.id AS stream_id, v.run_id, v.profile, v.started_us, r.tainted, r.direction AS flow, p.direction, "
        f"{_PICTURE} FROM run r JOIN video_stream v ON v.run_id = r.id JOIN picture p ON p.video_stream_id = v.id "
        "WHERE r.site_id = ? ORDER BY v.started_us, v.id",
        (site_id,),
    ).fetchall()


@dataclass(frozen=True)
class StoredVideo:
    id: int
    run_id: int
    number: int
    started_us: int
    record: Record
    clock: Record


def videos_of_run(db: sqlite3.Connection, run_id: int) -> list[StoredVideo]:
    """In the order of their numbers."""
    rows = db.execute("SELECT id FROM video_stream WHERE run_id = ? ORDER BY number", (run_id,)).fetchall()
    return [video_by_id(db, row[0]) for row in rows]


def video_by_id(db: sqlite3.Connection, stream_id: int) -> StoredVideo:
    """Raises KeyError."""
    row = db.execute(
        "SELECT v.id, v.run_id, v.number, v.started_us, v.record, r.clock_record FROM video_stream v "
        "JOIN run r ON r.id = v.run_id WHERE v.id = ?",
        (stream_id,),
    ).fetchone()
    if row is None:
        raise KeyError(stream_id)
    return StoredVideo(row[0], row[1], row[2], row[3], Record.parse(row[4]), Record.parse(row[5]))
