"""Engagements, and the presets of targets that are kept with each."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import asdict, dataclass

from tarnfell.core.targets import Targets
from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Engagement:
    id: int
    slug: str
    name: str
    summary: str
    archived_us: int | None


@dataclass(frozen=True)
class OwnPreset:
    id: int
    title: str
    targets: Targets


_SELECT = "SELECT id, slug, name, summary, archived_us FROM engagement"


def add_engagement(db: sqlite3.Connection, slug: str, name: str, summary: str = "") -> int:
    cursor = db.execute(
        "INSERT INTO engagement (slug, name, summary, created_us) VALUES (?, ?, ?, ?)",
        (slug, name, summary, now_us()),
    )
    return int(cursor.lastrowid or 0)


def engagements(db: sqlite3.Connection) -> list[Engagement]:
    """All of them, the archived ones too."""
    return [Engagement(*row) for row in db.execute(f"{_SELECT} ORDER BY name COLLATE NOCASE")]


def engagement_by_slug(db: sqlite3.Connection, slug: str) -> Engagement | None:
    row = db.execute(f"{_SELECT} WHERE slug = ?", (slug,)).fetchone()
    return Engagement(*row) if row else None


def engagement_by_id(db: sqlite3.Connection, engagement_id: int) -> Engagement:
    return Engagement(*db.execute(f"{_SELECT} WHERE id = ?", (engagement_id,)).fetchone())


def change_engagement(db: sqlite3.Connection, engagement_id: int, name: str, summary: str) -> None:
    db.execute("UPDATE engagement SET name = ?, summary = ? WHERE id = ?", (name, summary, engagement_id))


def archive_engagement(db: sqlite3.Connection, engagement_id: int, archived: bool) -> None:
    db.execute("UPDATE engagement SET archived_us = ? WHERE id = ?", (now_us() if archived else None, engagement_id))


def presets_of(db: sqlite3.Connection, engagement_id: int) -> list[OwnPreset]:
    rows = db.execute("SELECT id, title, targets FROM preset WHERE engagement_id = ? ORDER BY title", (engagement_id,))
    return [OwnPreset(row["id"], row["title"], Targets(**json.loads(row["targets"]))) for row in rows]


def keep_preset(db: sqlite3.Connection, engagement_id: int, title: str, targets: Targets) -> None:
    """New, or in place of the one with the same title."""
    db.execute(
        "INSERT INTO preset (engagement_id, title, targets, created_us) VALUES (?, ?, ?, ?) "
        "ON CONFLICT (engagement_id, title) DO UPDATE SET targets = excluded.targets, title = excluded.title",
        (engagement_id, title, json.dumps(asdict(targets)), now_us()),
    )


def drop_preset(db: sqlite3.Connection, engagement_id: int, preset_id: int) -> None:
    db.execute("DELETE FROM preset WHERE id = ? AND engagement_id = ?", (preset_id, engagement_id))
