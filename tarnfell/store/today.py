"""What goes on over all sites at work that somebody has to do with: not archived, nor of an archived engagement."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us
from tarnfell.store.jobs import State
from tarnfell.wire.kinds import Name

PAUSE_US = 30 * 60 * 1_000_000
"""Away for so long, somebody who comes back begins another visit."""
_AT_WORK = (
    "SELECT site.id FROM site JOIN engagement ON engagement.id = site.engagement_id "
    "JOIN member ON member.engagement_id = engagement.id AND member.user_id = ? AND member.role <> 'customer' "
    "WHERE site.archived_us IS NULL AND engagement.archived_us IS NULL"
)


@dataclass(frozen=True)
class OpenJob:
    id: int
    site_id: int
    probe: str
    kind: Name
    state: State
    since_us: int
    """When it began, or was asked for."""


def open_jobs(db: sqlite3.Connection, user_id: int, most: int) -> list[OpenJob]:
    """Newest first."""
    rows = db.execute(
        "SELECT job.id, job.site_id, probe.name, job.kind, job.state, coalesce(job.begun_us, job.created_us) FROM job "
        "JOIN probe ON probe.id = job.probe_id WHERE job.state IN ('waiting', 'taken', 'running') "
        f"AND job.site_id IN ({_AT_WORK}) ORDER BY job.id DESC LIMIT ?",
        (user_id, most),
    )
    return [OpenJob(*row) for row in rows]


@dataclass(frozen=True)
class Due:
    """A planned load or line fill; ``what`` is which."""

    site_id: int
    what: str
    name: str
    next_us: int


def next_due(db: sqlite3.Connection, user_id: int, most: int) -> list[Due]:
    rows = db.execute(
        "SELECT site_id, what, name, next_us FROM ("
        "SELECT site_id, 'load' AS what, name, next_us FROM plan WHERE state = 'scheduled' AND next_us IS NOT NULL "
        "UNION ALL SELECT site_id, 'fill', '', next_us FROM fill_plan WHERE state = 'scheduled' "
        f"AND next_us IS NOT NULL) WHERE site_id IN ({_AT_WORK}) ORDER BY next_us LIMIT ?",
        (user_id, most),
    )
    return [Due(*row) for row in rows]


@dataclass(frozen=True)
class Silent:
    probe_id: int
    site_id: int
    name: str
    last_contact_us: int


def silent_probes(db: sqlite3.Connection, user_id: int, before_us: int) -> list[Silent]:
    """Enrolled, not retired, and not heard of since; the one that fell silent last first."""
    rows = db.execute(
        "SELECT id, site_id, name, last_contact_us FROM probe WHERE retired_us IS NULL AND enrolled_us IS NOT NULL "
        f"AND last_contact_us < ? AND site_id IN ({_AT_WORK}) ORDER BY last_contact_us DESC",
        (before_us, user_id),
    )
    return [Silent(*row) for row in rows]


def watching_probes(db: sqlite3.Connection, user_id: int) -> list[int]:
    """Probes that are wanted to watch."""
    rows = db.execute(
        "SELECT probe.id FROM watch JOIN probe ON probe.id = watch.probe_id WHERE watch.wanted = 1 "
        f"AND probe.retired_us IS NULL AND probe.site_id IN ({_AT_WORK}) ORDER BY probe.id",
        (user_id,),
    )
    return [row[0] for row in rows]


@dataclass(frozen=True)
class Ended:
    """So many jobs of a kind at a site that ended well, or failed."""

    site_id: int
    kind: Name
    failed: bool
    count: int
    browser: bool = False
    """Of tests from browsers."""


def ended_since(db: sqlite3.Connection, user_id: int, since_us: int) -> list[Ended]:
    rows = db.execute(
        "SELECT job.site_id, job.kind, state = 'failed', count(*), probe.kind = 'browser' AS browser FROM job "
        "JOIN probe ON probe.id = job.probe_id WHERE state IN ('done', 'failed') "
        f"AND ended_us > ? AND job.site_id IN ({_AT_WORK}) GROUP BY job.site_id, job.kind, browser, state "
        "ORDER BY job.site_id, job.kind, browser, state",
        (since_us, user_id),
    )
    return [Ended(row[0], row[1], bool(row[2]), row[3], bool(row[4])) for row in rows]


def alerts_since(db: sqlite3.Connection, user_id: int, since_us: int) -> dict[int, tuple[int, int]]:
    """Of each site: alerts that were told since, and those of them that are over."""
    rows = db.execute(
        "SELECT site_id, count(*), sum(ended_us IS NOT NULL) FROM alert "
        f"WHERE made_us > ? AND site_id IN ({_AT_WORK}) GROUP BY site_id",
        (since_us, user_id),
    )
    return {row[0]: (row[1], row[2]) for row in rows}


def imports_since(db: sqlite3.Connection, user_id: int, since_us: int) -> dict[int, int]:
    rows = db.execute(
        f"SELECT site_id, count(*) FROM imported WHERE created_us > ? AND site_id IN ({_AT_WORK}) GROUP BY site_id",
        (since_us, user_id),
    )
    return {row[0]: row[1] for row in rows}


def note_visit(db: sqlite3.Connection, user_id: int) -> int | None:
    """Somebody has the start page now; gives when they were last here before this visit, None for never."""
    at = now_us()
    db.execute(
        "UPDATE user SET seen_before_us = CASE WHEN seen_us < ?2 - ?3 THEN seen_us ELSE seen_before_us END, "
        "seen_us = ?2 WHERE id = ?1",
        (user_id, at, PAUSE_US),
    )
    row = db.execute("SELECT seen_before_us FROM user WHERE id = ?", (user_id,)).fetchone()
    return None if row is None or row[0] is None else int(row[0])
