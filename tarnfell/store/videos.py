"""Video streams: the raw packet record, and what it was judged to be."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.core.causes import Direction
from tarnfell.core.clock import ClockRelation
from tarnfell.core.directions import PictureFigures
from tarnfell.store.clocks import from_text
from tarnfell.store.figures import assignments, columns, figures_of, marks, values
from tarnfell.wire.record import Record


@dataclass(frozen=True)
class JudgedVideo:
    number: int
    profile: str
    started_us: int
    record: bytes
    directions: dict[str, PictureFigures]


def add_video(db: sqlite3.Connection, run_id: int, judged: JudgedVideo) -> None:
    cursor = db.execute(
        "INSERT INTO video_stream (run_id, number, profile, started_us, record) VALUES (?, ?, ?, ?, ?)",
        (run_id, judged.number, judged.profile, judged.started_us, judged.record),
    )
    for direction, found in judged.directions.items():
        db.execute(
            f"INSERT INTO picture (video_stream_id, direction, {columns(PictureFigures)}) "
            f"VALUES (?, ?, {marks(PictureFigures)})",
            (cursor.lastrowid, direction, *values(found)),
        )


def replace_pictures(db: sqlite3.Connection, fresh: dict[int, dict[str, PictureFigures]]) -> None:
    """Streams judged anew, by stream and direction."""
    for stream_id, directions in fresh.items():
        for direction, found in directions.items():
            db.execute(
                f"UPDATE picture SET {assignments(PictureFigures)} WHERE video_stream_id = ? AND direction = ?",
                (*values(found), stream_id, direction),
            )


_FIGURES = columns(PictureFigures, "p.")


@dataclass(frozen=True)
class StoredPicture:
    """One direction of a stream as it was judged."""

    stream_id: int
    number: int
    """Of the stream in its run."""
    profile: str
    started_us: int
    direction: Direction
    figures: PictureFigures


def pictures_of_run(db: sqlite3.Connection, run_id: int) -> list[StoredPicture]:
    """In the order of the streams' numbers, up before down."""
    rows = db.execute(
        f"SELECT v.id, v.number, v.profile, v.started_us, p.direction, {_FIGURES} "
        "FROM video_stream v JOIN picture p ON p.video_stream_id = v.id WHERE v.run_id = ? "
        "ORDER BY v.number, p.direction DESC",
        (run_id,),
    )
    return [StoredPicture(row[0], row[1], row[2], row[3], row[4], figures_of(row, PictureFigures)) for row in rows]


def pictures_of_site(db: sqlite3.Connection, site_id: int) -> list[sqlite3.Row]:
    """A row for each direction of each stream of the site, in the order of time."""
    return db.execute(
        f"SELECT v.id AS stream_id, v.run_id, v.profile, v.started_us, r.tainted, r.direction AS flow, r.seconds, "
        f"r.cut_after_s, p.direction, "
        f"{_FIGURES} FROM run_job r JOIN video_stream v ON v.run_id = r.id JOIN picture p ON p.video_stream_id = v.id "
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
    relation: ClockRelation | None
    """As of a call's."""


def videos_of_run(db: sqlite3.Connection, run_id: int) -> list[StoredVideo]:
    """In the order of their numbers."""
    rows = db.execute("SELECT id FROM video_stream WHERE run_id = ? ORDER BY number", (run_id,)).fetchall()
    return [video_by_id(db, row[0]) for row in rows]


def video_by_id(db: sqlite3.Connection, stream_id: int) -> StoredVideo:
    """Raises KeyError."""
    row = db.execute(
        "SELECT v.id, v.run_id, v.number, v.started_us, v.record, r.clock_record, r.clock_relation FROM video_stream v "
        "JOIN run r ON r.id = v.run_id WHERE v.id = ?",
        (stream_id,),
    ).fetchone()
    if row is None:
        raise KeyError(stream_id)
    relation = from_text(row[6]) if row[6] else None
    return StoredVideo(row[0], row[1], row[2], row[3], Record.parse(row[4]), Record.parse(row[5]), relation)
