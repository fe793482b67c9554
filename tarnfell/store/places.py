"""Where things stand: test points on a site's path, the far ends of all sites, and how far these are from a probe."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us

TestPointKind = Literal["farthest", "desk", "wireless", "cabinet", "firewall", "outside"]
"""From the farthest subnet outwards; the order is the order on the path picture."""
TEST_POINT_KINDS: tuple[TestPointKind, ...] = ("farthest", "desk", "wireless", "cabinet", "firewall", "outside")


@dataclass(frozen=True)
class TestPoint:
    id: int
    site_id: int
    name: str
    kind: TestPointKind
    note: str


@dataclass(frozen=True)
class FarEnd:
    """``key`` is the secret that far end shares with those who may call it."""

    id: int
    kind: Literal["host", "server", "probe"]
    name: str
    place: str
    host: str
    port: int
    media_low: int | None
    media_high: int | None
    key: str
    probe_id: int | None
    archived_us: int | None


@dataclass(frozen=True)
class Distance:
    probe_id: int
    far_end_id: int
    at_us: int
    connect_ms: float | None
    failure: str | None
    key_fits: bool | None
    """Whether the far end took the key; None where that was not tried."""


_TEST_POINT = "SELECT id, site_id, name, kind, note FROM test_point"
_FAR_COLUMNS = ", ".join(f"far_end.{f.name}" for f in fields(FarEnd))


def add_test_point(db: sqlite3.Connection, site_id: int, name: str, kind: TestPointKind, note: str = "") -> int:
    cursor = db.execute(
        "INSERT INTO test_point (site_id, name, kind, note, created_us) VALUES (?, ?, ?, ?, ?)",
        (site_id, name, kind, note, now_us()),
    )
    return int(cursor.lastrowid or 0)


def probes_at(db: sqlite3.Connection, test_point_id: int) -> tuple[int, int]:
    """Probes at work there, and retired ones that measured from there."""
    row = db.execute(
        "SELECT sum(retired_us IS NULL), sum(retired_us IS NOT NULL) FROM probe WHERE test_point_id = ?",
        (test_point_id,),
    ).fetchone()
    return int(row[0] or 0), int(row[1] or 0)


def remove_test_point(db: sqlite3.Connection, test_point_id: int) -> None:
    db.execute("DELETE FROM test_point WHERE id = ?", (test_point_id,))


def test_points_of(db: sqlite3.Connection, site_id: int) -> list[TestPoint]:
    """From the inside outwards."""
    test_points = [TestPoint(*row) for row in db.execute(f"{_TEST_POINT} WHERE site_id = ? ORDER BY id", (site_id,))]
    return sorted(test_points, key=lambda s: TEST_POINT_KINDS.index(s.kind))


def test_point_by_id(db: sqlite3.Connection, test_point_id: int) -> TestPoint | None:
    row = db.execute(f"{_TEST_POINT} WHERE id = ?", (test_point_id,)).fetchone()
    return TestPoint(*row) if row else None


def change_test_point(db: sqlite3.Connection, test_point_id: int, name: str, kind: TestPointKind, note: str) -> None:
    db.execute("UPDATE test_point SET name = ?, kind = ?, note = ? WHERE id = ?", (name, kind, note, test_point_id))


def add_far_end(
    db: sqlite3.Connection,
    name: str,
    place: str,
    host: str,
    port: int,
    key: str,
    *,
    media: tuple[int, int] | None = None,
    kind: str = "host",
    probe_id: int | None = None,
) -> int:
    low, high = media or (None, None)
    cursor = db.execute(
        "INSERT INTO far_end (kind, name, place, host, port, media_low, media_high, key, probe_id, created_us) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (kind, name, place, host, port, low, high, key, probe_id, now_us()),
    )
    return int(cursor.lastrowid or 0)


def change_far_end(
    db: sqlite3.Connection, far_end_id: int, name: str, place: str, host: str, port: int, media: tuple[int, int]
) -> None:
    db.execute(
        "UPDATE far_end SET name = ?, place = ?, host = ?, port = ?, media_low = ?, media_high = ? WHERE id = ?",
        (name, place, host, port, *media, far_end_id),
    )


def set_far_end_key(db: sqlite3.Connection, far_end_id: int, key: str) -> None:
    db.execute("UPDATE far_end SET key = ? WHERE id = ?", (key, far_end_id))


def archive_far_end(db: sqlite3.Connection, far_end_id: int, archived: bool) -> None:
    at = now_us() if archived else None
    db.execute("UPDATE far_end SET archived_us = ? WHERE id = ?", (at, far_end_id))


def keep_server_far_end(db: sqlite3.Connection, host: str, port: int, media: tuple[int, int], key: str) -> None:
    """The far end that runs beside this server: one record, brought up to date at each start."""
    row = db.execute("SELECT id FROM far_end WHERE kind = 'server'").fetchone()
    if row is None:
        add_far_end(db, "this server", "beside the server", host, port, key, media=media, kind="server")
        return
    change_far_end(db, row[0], "this server", "beside the server", host, port, media)
    set_far_end_key(db, row[0], key)
    archive_far_end(db, row[0], archived=False)


def retire_server_far_end(db: sqlite3.Connection) -> None:
    """The server was started without one."""
    db.execute("UPDATE far_end SET archived_us = ? WHERE kind = 'server' AND archived_us IS NULL", (now_us(),))


def choose_far_end(db: sqlite3.Connection, site_id: int, far_end_id: int, chosen: bool = True) -> None:
    if chosen:
        db.execute(
            "INSERT OR IGNORE INTO site_far_end (site_id, far_end_id, created_us) VALUES (?, ?, ?)",
            (site_id, far_end_id, now_us()),
        )
    else:
        db.execute("DELETE FROM site_far_end WHERE site_id = ? AND far_end_id = ?", (site_id, far_end_id))


def sites_that_chose(db: sqlite3.Connection, far_end_id: int) -> set[int]:
    rows = db.execute("SELECT site_id FROM site_far_end WHERE far_end_id = ?", (far_end_id,))
    return {row[0] for row in rows}


def far_ends(db: sqlite3.Connection) -> list[FarEnd]:
    """All that are in use, whoever chose them."""
    rows = db.execute(f"SELECT {_FAR_COLUMNS} FROM far_end WHERE archived_us IS NULL ORDER BY name COLLATE NOCASE")
    return [FarEnd(*row) for row in rows]


def archived_hosts(db: sqlite3.Connection) -> list[FarEnd]:
    """Far ends on hosts that were archived, newest first; what a probe or this server keeps comes back by itself."""
    rows = db.execute(
        f"SELECT {_FAR_COLUMNS} FROM far_end WHERE archived_us IS NOT NULL AND kind = 'host' ORDER BY archived_us DESC"
    )
    return [FarEnd(*row) for row in rows]


def far_ends_of(db: sqlite3.Connection, site_id: int) -> list[FarEnd]:
    """The ones chosen for a site, first chosen first."""
    rows = db.execute(
        f"SELECT {_FAR_COLUMNS} FROM site_far_end JOIN far_end ON far_end.id = far_end_id "
        "WHERE site_far_end.site_id = ? AND archived_us IS NULL ORDER BY site_far_end.created_us, far_end.id",
        (site_id,),
    )
    return [FarEnd(*row) for row in rows]


def far_end_by_id(db: sqlite3.Connection, far_end_id: int) -> FarEnd | None:
    row = db.execute(f"SELECT {_FAR_COLUMNS} FROM far_end WHERE id = ?", (far_end_id,)).fetchone()
    return FarEnd(*row) if row else None


def far_end_of_probe(db: sqlite3.Connection, probe_id: int) -> FarEnd | None:
    row = db.execute(f"SELECT {_FAR_COLUMNS} FROM far_end WHERE probe_id = ?", (probe_id,)).fetchone()
    return FarEnd(*row) if row else None


def keep_distance(
    db: sqlite3.Connection,
    probe_id: int,
    far_end_id: int,
    connect_ms: float | None,
    failure: str | None,
    key_fits: bool | None = None,
) -> None:
    db.execute(
        "INSERT OR REPLACE INTO distance (probe_id, far_end_id, at_us, connect_ms, failure, key_fits) "
        "VALUES (?, ?, ?, ?, ?, ?)",
        (probe_id, far_end_id, now_us(), connect_ms, failure, key_fits),
    )


def distances_of(db: sqlite3.Connection, probe_id: int) -> dict[int, Distance]:
    """By far end."""
    rows = db.execute(
        "SELECT probe_id, far_end_id, at_us, connect_ms, failure, key_fits FROM distance WHERE probe_id = ?",
        (probe_id,),
    )
    kept = [{**dict(row), "key_fits": None if row["key_fits"] is None else bool(row["key_fits"])} for row in rows]
    return {values["far_end_id"]: Distance(**values) for values in kept}
