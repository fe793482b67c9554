"""Engagements, sites and where calls are answered."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields
from typing import Any

from tarnfell.core.evidence import Brief
from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Engagement:
    id: int
    slug: str
    name: str
    summary: str


@dataclass(frozen=True)
class Site:
    id: int
    engagement_id: int
    slug: str
    name: str
    place: str
    time_zone: str
    open_minute: int
    close_minute: int
    open_days: str
    """ISO weekdays, Monday 1, as digits."""
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    provider: str
    people: int | None
    needed_calls: int
    codec: str
    ptime_ms: int
    target_mos: float
    required_share_pct: float
    required_days: int
    required_busy_hours: int
    required_calls: int

    @property
    def brief(self) -> Brief:
        return Brief(
            needed_calls=self.needed_calls,
            target_mos=self.target_mos,
            required_share_pct=self.required_share_pct,
            required_days=self.required_days,
            required_busy_hours=self.required_busy_hours,
            required_calls=self.required_calls,
        )


@dataclass(frozen=True)
class FarEnd:
    id: int
    site_id: int
    name: str
    place: str
    host: str
    port: int
    key: str


_SITE_COLUMNS = ", ".join(f.name for f in fields(Site))
_FAR_COLUMNS = ", ".join(f.name for f in fields(FarEnd))


def add_engagement(db: sqlite3.Connection, slug: str, name: str, summary: str = "") -> int:
    cursor = db.execute(
        "INSERT INTO engagement (slug, name, summary, created_us) VALUES (?, ?, ?, ?)",
        (slug, name, summary, now_us()),
    )
    return int(cursor.lastrowid or 0)


def engagements(db: sqlite3.Connection) -> list[Engagement]:
    return [Engagement(*row) for row in db.execute("SELECT id, slug, name, summary FROM engagement ORDER BY name")]


def engagement_by_slug(db: sqlite3.Connection, slug: str) -> Engagement | None:
    row = db.execute("SELECT id, slug, name, summary FROM engagement WHERE slug = ?", (slug,)).fetchone()
    return Engagement(*row) if row else None


def engagement_by_id(db: sqlite3.Connection, engagement_id: int) -> Engagement:
    row = db.execute("SELECT id, slug, name, summary FROM engagement WHERE id = ?", (engagement_id,)).fetchone()
    return Engagement(*row)


def add_site(db: sqlite3.Connection, engagement_id: int, **values: Any) -> int:
    """``values`` are the fields of Site but its ids."""
    names = ["engagement_id", *values, "created_us"]
    cursor = db.execute(
        f"INSERT INTO site ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})",
        (engagement_id, *values.values(), now_us()),
    )
    return int(cursor.lastrowid or 0)


def sites_of(db: sqlite3.Connection, engagement_id: int) -> list[Site]:
    rows = db.execute(f"SELECT {_SITE_COLUMNS} FROM site WHERE engagement_id = ? ORDER BY id", (engagement_id,))
    return [Site(*row) for row in rows]


def site_by_slug(db: sqlite3.Connection, slug: str) -> Site | None:
    row = db.execute(f"SELECT {_SITE_COLUMNS} FROM site WHERE slug = ?", (slug,)).fetchone()
    return Site(*row) if row else None


def site_by_id(db: sqlite3.Connection, site_id: int) -> Site:
    return Site(*db.execute(f"SELECT {_SITE_COLUMNS} FROM site WHERE id = ?", (site_id,)).fetchone())


def add_far_end(db: sqlite3.Connection, site_id: int, name: str, place: str, host: str, port: int, key: str) -> int:
    cursor = db.execute(
        "INSERT INTO far_end (site_id, name, place, host, port, key, created_us) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (site_id, name, place, host, port, key, now_us()),
    )
    return int(cursor.lastrowid or 0)


def far_ends_of(db: sqlite3.Connection, site_id: int) -> list[FarEnd]:
    rows = db.execute(f"SELECT {_FAR_COLUMNS} FROM far_end WHERE site_id = ? ORDER BY id", (site_id,))
    return [FarEnd(*row) for row in rows]


def far_end_by_id(db: sqlite3.Connection, far_end_id: int) -> FarEnd:
    return FarEnd(*db.execute(f"SELECT {_FAR_COLUMNS} FROM far_end WHERE id = ?", (far_end_id,)).fetchone())
