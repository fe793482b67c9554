"""Sites: what the consultant wrote down about each."""

from __future__ import annotations

import json
import re
import sqlite3
import unicodedata
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields
from typing import Any

from tarnfell.core.business import BusinessHours
from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import Link, call_rate
from tarnfell.core.targets import Targets
from tarnfell.core.verdict.facts import Brief
from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Blackout:
    """Hours of the site's week in which no load may be placed."""

    days: str
    """ISO weekdays, Monday 1, as digits."""
    from_minute: int
    to_minute: int
    why: str


@dataclass(frozen=True)
class Contact:
    role: str
    name: str
    email: str
    phone: str


@dataclass(frozen=True)
class VideoNeed:
    profile: str
    streams: int


@dataclass(frozen=True)
class Site:
    """Fields are the columns of the table; the three lists are kept there as JSON."""

    id: int
    engagement_id: int
    slug: str
    name: str
    place: str
    address: str
    time_zone: str
    open_minute: int
    close_minute: int
    open_days: str
    """ISO weekdays, Monday 1, as digits."""
    blackouts: tuple[Blackout, ...]
    ceiling_pct: float | None
    """Most of the line's rate, each way, that test calls may take."""
    metered_mb: int | None
    """Of a metered line: what loads may move in a day, both ways together."""
    contacts: tuple[Contact, ...]
    switches_by: str
    firewall_by: str
    line_by: str
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    provider: str
    people: int | None
    calls_per_hour: float | None
    minutes_per_call: float | None
    blocking_pct: float | None
    needed_calls: int
    codec: str
    ptime_ms: int
    video: tuple[VideoNeed, ...]
    srtp: bool
    pppoe: bool
    vlan_tags: int
    tunnel_bytes: int
    ipv6: bool
    target_mos: float
    required_share_pct: float
    target_picture: float
    max_delay_ms: float | None
    max_loss_pct: float | None
    max_variation_ms: float | None
    min_stretch_mos: float | None
    required_days: int
    required_busy_hours: int
    required_moments: int
    archived_us: int | None = field(default=None)
    browser_counts: bool = False
    """Whether calls from browsers count for the verdict like those of probes."""

    @property
    def brief(self) -> Brief:
        rate = call_rate(find_codec(self.codec), self.ptime_ms, self.link)
        return Brief(
            needed_calls=self.needed_calls,
            video=bool(self.video),
            up_kbps=self.up_kbps,
            down_kbps=self.down_kbps,
            call_kbps=rate.line_kbps,
            switches_by=self.switches_by,
            firewall_by=self.firewall_by,
            line_by=self.line_by or self.provider,
            **asdict(self.targets),
        )

    @property
    def business(self) -> BusinessHours:
        return BusinessHours(self.open_days, self.open_minute, self.close_minute)

    @property
    def targets(self) -> Targets:
        return Targets(**{f.name: getattr(self, f.name) for f in fields(Targets)})

    @property
    def link(self) -> Link:
        return Link(self.srtp, self.pppoe, self.vlan_tags, self.tunnel_bytes, self.ipv6)


_LISTS: dict[str, type] = {"blackouts": Blackout, "contacts": Contact, "video": VideoNeed}
_SWITCHES = ("srtp", "pppoe", "ipv6", "browser_counts")
_COLUMNS = ", ".join(f.name for f in fields(Site))


def add_site(db: sqlite3.Connection, engagement_id: int, **values: Any) -> int:
    """``values`` are fields of Site; those left out have the table's defaults. IntegrityError for a taken slug."""
    names = ["engagement_id", *values, "created_us"]
    cursor = db.execute(
        f"INSERT INTO site ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})",
        (engagement_id, *_columns(values), now_us()),
    )
    return int(cursor.lastrowid or 0)


def change_site(db: sqlite3.Connection, site_id: int, **values: Any) -> None:
    pairs = ", ".join(f"{name} = ?" for name in values)
    db.execute(f"UPDATE site SET {pairs} WHERE id = ?", (*_columns(values), site_id))


def archive_site(db: sqlite3.Connection, site_id: int, archived: bool) -> None:
    change_site(db, site_id, archived_us=now_us() if archived else None)


def sites_of(db: sqlite3.Connection, engagement_id: int, archived: bool = False) -> list[Site]:
    """The sites at work, or the archived ones."""
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM site WHERE engagement_id = ? AND (archived_us IS NOT NULL) = ? ORDER BY id",
        (engagement_id, archived),
    )
    return [_site(row) for row in rows]


def at_work(db: sqlite3.Connection) -> dict[int, int]:
    """How many sites of each engagement are; one that has none is left out."""
    rows = db.execute("SELECT engagement_id, count(*) FROM site WHERE archived_us IS NULL GROUP BY engagement_id")
    return {row[0]: row[1] for row in rows}


def site_by_slug(db: sqlite3.Connection, slug: str) -> Site | None:
    row = db.execute(f"SELECT {_COLUMNS} FROM site WHERE slug = ?", (slug,)).fetchone()
    return _site(row) if row else None


def site_by_id(db: sqlite3.Connection, site_id: int) -> Site:
    return _site(db.execute(f"SELECT {_COLUMNS} FROM site WHERE id = ?", (site_id,)).fetchone())


def free_slug(db: sqlite3.Connection, table: str, name: str) -> str:
    """An address for ``name`` that no row of ``table`` (site or engagement) has."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    stem = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60] or table
    taken = {row[0] for row in db.execute(f"SELECT slug FROM {table} WHERE slug LIKE ?", (f"{stem}%",))}
    number, slug = 2, stem
    while slug in taken:
        slug, number = f"{stem}-{number}", number + 1
    return slug


def _columns(values: Mapping[str, Any]) -> list[Any]:
    return [
        json.dumps([asdict(one) for one in value]) if name in _LISTS else int(value) if name in _SWITCHES else value
        for name, value in values.items()
    ]


def _site(row: sqlite3.Row) -> Site:
    values = dict(row)
    for name, kind in _LISTS.items():
        values[name] = tuple(kind(**one) for one in json.loads(values[name]))
    for name in _SWITCHES:
        values[name] = bool(values[name])
    return Site(**values)
