"""What people ask for and the clerk makes: a document each.

waiting ──► being made ──► ready: its file is on the shelf of what was made
               │  ▲ ╰────► failed, with the reason
               ╰──╯ when the clerk was killed, or the machine had no room
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us

State = Literal["waiting", "being made", "ready", "failed"]
MAX_TRIES = 3
"""A document that ended the clerk so often is given up: it would end it for ever."""
PAUSE_US = 10 * 1_000_000
"""After a try that failed for a reason of this machine, such as a full disk."""


@dataclass(frozen=True)
class Task:
    id: int
    kind: str
    site_id: int | None
    engagement_id: int | None
    """One of the two: what the document is of."""
    mark: str
    """Of what it is made: the same kind of the same mark is the same document."""
    state: State
    tries: int
    not_before_us: int
    asked_by: int | None
    asked_us: int
    ended_us: int | None
    failure: str | None
    sha256: str | None


_TASK = f"SELECT {', '.join(f.name for f in fields(Task))} FROM task"


def ask(
    db: sqlite3.Connection,
    kind: str,
    mark: str,
    by: int | None,
    *,
    site_id: int | None = None,
    engagement_id: int | None = None,
) -> Task:
    """The task of this mark, asked for anew where it failed before."""
    row = db.execute(
        f"{_TASK} WHERE site_id IS ? AND engagement_id IS ? AND kind = ? AND mark = ? AND state <> 'failed' "
        "ORDER BY id DESC LIMIT 1",
        (site_id, engagement_id, kind, mark),
    ).fetchone()
    if row:
        return Task(*row)
    cursor = db.execute(
        "INSERT INTO task (kind, site_id, engagement_id, mark, asked_by, asked_us) VALUES (?, ?, ?, ?, ?, ?)",
        (kind, site_id, engagement_id, mark, by, now_us()),
    )
    return task_by_id(db, int(cursor.lastrowid or 0))


def task_by_id(db: sqlite3.Connection, task_id: int) -> Task:
    """KeyError where there is none."""
    row = db.execute(f"{_TASK} WHERE id = ?", (task_id,)).fetchone()
    if row is None:
        raise KeyError(task_id)
    return Task(*row)


def newest(db: sqlite3.Connection, kind: str, site_id: int) -> Task | None:
    row = db.execute(
        f"{_TASK} WHERE site_id = ? AND engagement_id IS NULL AND kind = ? ORDER BY id DESC LIMIT 1", (site_id, kind)
    ).fetchone()
    return Task(*row) if row else None


def newest_of(
    db: sqlite3.Connection, kind: str, mark: str, *, site_id: int | None = None, engagement_id: int | None = None
) -> Task | None:
    """However it stands."""
    row = db.execute(
        f"{_TASK} WHERE site_id IS ? AND engagement_id IS ? AND kind = ? AND mark = ? ORDER BY id DESC LIMIT 1",
        (site_id, engagement_id, kind, mark),
    ).fetchone()
    return Task(*row) if row else None


def forget_waiting(
    db: sqlite3.Connection,
    kind: str,
    marked: str,
    by: int | None,
    *,
    site_id: int | None = None,
    engagement_id: int | None = None,
) -> None:
    """What this person asked for before, of a mark that begins so, and nobody has begun to make."""
    db.execute(
        "DELETE FROM task WHERE site_id IS ? AND engagement_id IS ? AND kind = ? AND state = 'waiting' "
        "AND asked_by IS ? AND substr(mark, 1, ?) = ?",
        (site_id, engagement_id, kind, by, len(marked), marked),
    )


def next_task(db: sqlite3.Connection, *, but: Sequence[str]) -> Task | None:
    """The oldest that waits and is due, or that a clerk left when it was killed; ``but`` are kinds made elsewhere."""
    return _open(db, f"kind NOT IN ({_marks(but)}) ORDER BY id", but)


def last_task(db: sqlite3.Connection, *, among: Sequence[str]) -> Task | None:
    """As ``next_task``: the one of these kinds that was asked for last."""
    return _open(db, f"kind IN ({_marks(among)}) ORDER BY id DESC", among)


def _open(db: sqlite3.Connection, which: str, kinds: Sequence[str]) -> Task | None:
    row = db.execute(
        f"{_TASK} WHERE state IN ('waiting', 'being made') AND not_before_us <= ? AND {which} LIMIT 1",
        (now_us(), *kinds),
    ).fetchone()
    return Task(*row) if row else None


def _marks(values: Sequence[str]) -> str:
    return ", ".join("?" * len(values))


def note_try(db: sqlite3.Connection, task: Task) -> None:
    """Before it is made, so that one that ends the process is counted."""
    db.execute("UPDATE task SET state = 'being made', tries = ? WHERE id = ?", (task.tries + 1, task.id))


def put_off(db: sqlite3.Connection, task: Task) -> None:
    """It was not the document's fault: the try does not count, and others go first for a while."""
    db.execute(
        "UPDATE task SET state = 'waiting', tries = ?, not_before_us = ? WHERE id = ?",
        (task.tries, now_us() + PAUSE_US, task.id),
    )


def fail(db: sqlite3.Connection, task: Task, reason: str) -> None:
    db.execute("UPDATE task SET state = 'failed', failure = ?, ended_us = ? WHERE id = ?", (reason, now_us(), task.id))


def finish(db: sqlite3.Connection, task: Task, sha256: str, keep: int = 1) -> list[str]:
    """It is ready. Of those of its owner and kind that were asked for before it and have ended, the last ``keep - 1``
    stay, and the others are forgotten; the files that nothing names now."""
    db.execute("UPDATE task SET state = 'ready', sha256 = ?, ended_us = ? WHERE id = ?", (sha256, now_us(), task.id))
    ended = "site_id IS ?1 AND engagement_id IS ?2 AND kind = ?3 AND id < ?4 AND state IN ('ready', 'failed')"
    gone = db.execute(
        f"DELETE FROM task WHERE {ended} AND id NOT IN "
        f"(SELECT id FROM task WHERE {ended} ORDER BY id DESC LIMIT ?5) RETURNING sha256",
        (task.site_id, task.engagement_id, task.kind, task.id, keep - 1),
    ).fetchall()
    return sorted({row["sha256"] for row in gone if row["sha256"]} - files_named(db))


def files_named(db: sqlite3.Connection) -> set[str]:
    return {row[0] for row in db.execute("SELECT sha256 FROM task WHERE sha256 IS NOT NULL")}
