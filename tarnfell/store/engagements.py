"""Engagements, and the presets of targets that are kept with each."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import asdict, dataclass
from typing import Literal

from tarnfell.core.targets import Targets
from tarnfell.store.db import now_us

Paper = Literal["A4", "Letter"]


@dataclass(frozen=True)
class Engagement:
    id: int
    slug: str
    name: str
    summary: str
    archived_us: int | None
    live: bool
    """Its customers see how its sites stand now, and not only what was issued."""
    paper: Paper
    """What its reports are printed on."""


@dataclass(frozen=True)
class OwnPreset:
    id: int
    title: str
    targets: Targets


_SELECT = "SELECT engagement.id, slug, name, summary, archived_us, live, paper FROM engagement"


def add_engagement(db: sqlite3.Connection, slug: str, name: str, summary: str = "", paper: Paper = "A4") -> int:
    cursor = db.execute(
        "INSERT INTO engagement (slug, name, summary, paper, created_us) VALUES (?, ?, ?, ?, ?)",
        (slug, name, summary, paper, now_us()),
    )
    return int(cursor.lastrowid or 0)


def engagements_of(db: sqlite3.Connection, user_id: int, *, shown: bool = False) -> list[Engagement]:
    """That somebody has to do with, or that are ``shown`` to them as to a customer; the archived ones too."""
    rows = db.execute(
        f"{_SELECT} JOIN member ON member.engagement_id = engagement.id WHERE member.user_id = ? "
        "AND (member.role = 'customer') = ? ORDER BY name COLLATE NOCASE, engagement.id",
        (user_id, int(shown)),
    )
    return [_engagement(row) for row in rows]


def engagement_by_slug(db: sqlite3.Connection, slug: str) -> Engagement | None:
    row = db.execute(f"{_SELECT} WHERE slug = ?", (slug,)).fetchone()
    return _engagement(row) if row else None


def engagement_by_id(db: sqlite3.Connection, engagement_id: int) -> Engagement:
    return _engagement(db.execute(f"{_SELECT} WHERE engagement.id = ?", (engagement_id,)).fetchone())


def _engagement(row: sqlite3.Row) -> Engagement:
    return Engagement(**dict(row) | {"live": bool(row["live"])})


def change_engagement(db: sqlite3.Connection, engagement_id: int, name: str, summary: str, paper: Paper) -> None:
    db.execute(
        "UPDATE engagement SET name = ?, summary = ?, paper = ? WHERE id = ?", (name, summary, paper, engagement_id)
    )


def show_live(db: sqlite3.Connection, engagement_id: int, live: bool) -> None:
    db.execute("UPDATE engagement SET live = ? WHERE id = ?", (int(live), engagement_id))


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
