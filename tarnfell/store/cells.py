"""Samples of watches as they are kept: ten minutes a row, all places side by side."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, fields

from tarnfell.store.watches import Batch
from tarnfell.wire.kinds.check import Role

CELL_US = 600_000_000


@dataclass(frozen=True)
class WatchPlace:
    number: int
    role: Role
    address: str
    """Empty of a far end that is asked by time stamps, and of the gateway that the probe's system has."""
    far_end_id: int | None


@dataclass(frozen=True)
class Cell:
    """Counts are of samples, those that a probe had to thin away among them."""

    watch_id: int
    start_us: int
    first_us: int
    last_us: int
    answered: int
    lost: int
    not_sent: int
    without_us: int
    tens: bytes
    minutes: bytes
    rounds: bytes
    """Empty once its samples were let go of."""
    beside: int = 0
    """Of those answered or lost, how many were sent beside load of our own."""


_CELL = tuple(f.name for f in fields(Cell))
_BATCH = tuple(f.name for f in fields(Batch))


def places_of(db: sqlite3.Connection, watch_id: int) -> list[WatchPlace]:
    rows = db.execute(
        "SELECT number, role, address, far_end_id FROM watch_place WHERE watch_id = ? ORDER BY number", (watch_id,)
    )
    return [WatchPlace(*row) for row in rows]


def add_place(db: sqlite3.Connection, watch_id: int, place: WatchPlace) -> None:
    db.execute(
        "INSERT INTO watch_place (watch_id, number, role, address, far_end_id) VALUES (?, ?, ?, ?, ?)",
        (watch_id, place.number, place.role, place.address, place.far_end_id),
    )


def waiting_batches(db: sqlite3.Connection, most: int, watch_id: int | None = None) -> list[Batch]:
    """Of one watch, unless it is given that with the oldest batch; in the order of time."""
    rows = db.execute(
        f"SELECT {', '.join(_BATCH)} FROM sample_batch WHERE watch_id = "
        "coalesce(?, (SELECT watch_id FROM sample_batch ORDER BY first_us LIMIT 1)) ORDER BY first_us LIMIT ?",
        (watch_id, most),
    )
    return [Batch(*row) for row in rows]


def cell_at(db: sqlite3.Connection, watch_id: int, start_us: int) -> Cell | None:
    row = db.execute(
        f"SELECT {', '.join(_CELL)} FROM sample_cell WHERE watch_id = ? AND start_us = ?", (watch_id, start_us)
    ).fetchone()
    return Cell(*row) if row else None


def keep_packed(db: sqlite3.Connection, cells: Sequence[Cell], batches: Sequence[Batch]) -> None:
    """The cells as they are now; the batches that are in them are let go of."""
    db.executemany(
        f"INSERT INTO sample_cell ({', '.join(_CELL)}) VALUES ({', '.join('?' * len(_CELL))}) "
        "ON CONFLICT (watch_id, start_us) DO UPDATE SET "
        + ", ".join(f"{name} = excluded.{name}" for name in _CELL[2:]),
        [tuple(getattr(cell, name) for name in _CELL) for cell in cells],
    )
    db.executemany(
        "DELETE FROM sample_batch WHERE watch_id = ? AND first_us = ?", [(b.watch_id, b.first_us) for b in batches]
    )
    oldest: dict[int, int] = {}
    for cell in cells:
        oldest[cell.watch_id] = min(cell.start_us, oldest.get(cell.watch_id, cell.start_us))
    db.executemany(
        "UPDATE watch SET changes = changes + 1, alert_from_us = min(coalesce(alert_from_us, ?1), ?1) WHERE id = ?2",
        [(start_us, watch_id) for watch_id, start_us in oldest.items()],
    )


def sampled_between(db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int) -> list[tuple[int, int]]:
    """Of cells that lie within the time and have samples: when they start, and for how long samples were sent without
    load of our own beside them."""
    rows = db.execute(
        "SELECT start_us, "
        "(last_us - first_us - without_us) * (answered + lost - beside) / (answered + lost + not_sent) "
        "FROM sample_cell WHERE watch_id = ? AND start_us >= ? AND start_us <= ? AND answered + lost > 0",
        (watch_id, from_us, until_us - CELL_US),
    )
    return [tuple(row) for row in rows]


def watches_with_older(db: sqlite3.Connection, before_us: int) -> list[int]:
    """Watches that still have samples of before a time."""
    rows = db.execute(
        "SELECT id FROM watch WHERE EXISTS (SELECT 1 FROM sample_cell WHERE watch_id = watch.id "
        "AND start_us >= watch.let_go_us AND start_us + ?1 <= ?2)",
        (CELL_US, before_us),
    )
    return [row[0] for row in rows]


def let_go(db: sqlite3.Connection, watch_id: int, before_us: int, most: int) -> int:
    """Take the samples out of the oldest cells that have some and end before a time; of how many."""
    rows = db.execute(
        "SELECT start_us FROM sample_cell WHERE watch_id = ?1 AND start_us + ?2 <= ?3 "
        "AND start_us >= (SELECT let_go_us FROM watch WHERE id = ?1) ORDER BY start_us LIMIT ?4",
        (watch_id, CELL_US, before_us, most),
    )
    starts = [row[0] for row in rows]
    db.executemany(
        "UPDATE sample_cell SET rounds = x'' WHERE watch_id = ? AND start_us = ?",
        [(watch_id, start_us) for start_us in starts],
    )
    if starts:
        db.execute("UPDATE watch SET let_go_us = ? WHERE id = ?", (starts[-1] + CELL_US, watch_id))
    return len(starts)


def let_go_until(db: sqlite3.Connection, watch_id: int) -> int:
    """From when on samples are there; 0 where none were let go of."""
    return int(db.execute("SELECT let_go_us FROM watch WHERE id = ?", (watch_id,)).fetchone()[0])


def cells_between(db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int) -> list[Cell]:
    """All that overlap the time, in its order."""
    rows = db.execute(
        f"SELECT {', '.join(_CELL)} FROM sample_cell WHERE watch_id = ? AND start_us > ? AND start_us < ? "
        "ORDER BY start_us",
        (watch_id, from_us - CELL_US, until_us),
    )
    return [Cell(*row) for row in rows]


def tens_between(db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int) -> tuple[list[int], list[bytes]]:
    """When each begins, and its figures alone."""
    rows = db.execute(
        "SELECT start_us, tens FROM sample_cell WHERE watch_id = ? AND start_us > ? AND start_us < ? ORDER BY start_us",
        (watch_id, from_us - CELL_US, until_us),
    )
    found = rows.fetchall()
    return [start_us for start_us, _ in found], [tens for _, tens in found]


@dataclass(frozen=True)
class Minuted:
    """A cell's minutes, without its samples."""

    start_us: int
    last_us: int
    minutes: bytes


def minutes_between(db: sqlite3.Connection, watch_id: int, from_us: int, until_us: int) -> list[Minuted]:
    """Of all cells that overlap the time, in its order."""
    rows = db.execute(
        "SELECT start_us, last_us, minutes FROM sample_cell WHERE watch_id = ? AND start_us > ? AND start_us < ? "
        "ORDER BY start_us",
        (watch_id, from_us - CELL_US, until_us),
    )
    return [Minuted(*row) for row in rows]


def span_of(db: sqlite3.Connection, watch_id: int) -> tuple[int, int] | None:
    """The first and the last sample that is packed."""
    row = db.execute(
        "SELECT (SELECT first_us FROM sample_cell WHERE watch_id = ?1 ORDER BY start_us LIMIT 1), "
        "(SELECT last_us FROM sample_cell WHERE watch_id = ?1 ORDER BY start_us DESC LIMIT 1)",
        (watch_id,),
    ).fetchone()
    return (row[0], row[1]) if row[0] is not None else None


@dataclass(frozen=True)
class Reading:
    watch_id: int
    until_us: int
    cells: int
    changed: int
    made_us: int
    reading: str
    week: str
    legs: str
    found: str
    """A digest of what was found."""


_READING = tuple(f.name for f in fields(Reading))


def reading_of(db: sqlite3.Connection, watch_id: int) -> Reading | None:
    row = db.execute(f"SELECT {', '.join(_READING)} FROM watch_reading WHERE watch_id = ?", (watch_id,)).fetchone()
    return Reading(*row) if row else None


def week_of(db: sqlite3.Connection, watch_id: int) -> str:
    """Its hours alone; as of a watch that has none where it was never read."""
    row = db.execute("SELECT week FROM watch_reading WHERE watch_id = ?", (watch_id,)).fetchone()
    return row[0] if row else "[]"


def legs_of(db: sqlite3.Connection, probe_id: int) -> str:
    """What its legs came to, of a probe's watch; empty where it was never read."""
    row = db.execute(
        "SELECT legs FROM watch_reading JOIN watch ON watch.id = watch_reading.watch_id WHERE probe_id = ?", (probe_id,)
    ).fetchone()
    return row[0] if row else ""


def read_again(db: sqlite3.Connection, site_id: int) -> None:
    """What a site's watches are read by has changed."""
    db.execute(
        "UPDATE watch SET changes = changes + 1 WHERE probe_id IN (SELECT id FROM probe WHERE site_id = ?)", (site_id,)
    )


def keep_reading(db: sqlite3.Connection, reading: Reading) -> None:
    db.execute(
        f"INSERT OR REPLACE INTO watch_reading ({', '.join(_READING)}) VALUES ({', '.join('?' * len(_READING))})",
        tuple(getattr(reading, name) for name in _READING),
    )


def unread(db: sqlite3.Connection, watch_id: int | None = None) -> list[tuple[int, int, int | None, int | None]]:
    """Watches whose cells have changed since they were read: id, changes by now, when and until when they were read."""
    rows = db.execute(
        "SELECT watch.id, watch.changes, watch_reading.made_us, watch_reading.until_us FROM watch "
        "LEFT JOIN watch_reading ON watch_reading.watch_id = watch.id "
        "WHERE watch.changes > coalesce(watch_reading.changed, 0) AND watch.id = coalesce(?, watch.id) "
        "ORDER BY watch.id",
        (watch_id,),
    )
    return [tuple(row) for row in rows]
