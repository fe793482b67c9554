"""What probes were told to do besides placing calls: who asked, when it was taken, how it ended."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Any, Literal

from tarnfell.store.db import now_us

Kind = Literal["distances", "update", "answer", "silence", "end"]

WORDS: dict[str, str] = {
    "distances": "Check reachability and round trip",
    "update": "Update the probe",
    "answer": "Answer calls as a far end",
    "silence": "Stop answering calls",
    "end": "End its work and clear up",
}


@dataclass(frozen=True)
class Command:
    id: int
    probe_id: int
    kind: Kind
    arguments: dict[str, Any]
    state: str
    asked_by: str | None
    """The person's name."""
    created_us: int
    taken_us: int | None
    ended_us: int | None
    failure: str | None
    result: dict[str, Any] | None


_SELECT = (
    "SELECT command.id, probe_id, kind, arguments, state, user.name AS asked_by, command.created_us, taken_us, "
    "ended_us, failure, result FROM command LEFT JOIN user ON user.id = asked_by"
)


def ask(
    db: sqlite3.Connection, probe_id: int, kind: Kind, asked_by: int | None, arguments: dict[str, Any] | None = None
) -> int:
    """One more command for the probe. One of the same kind that still waits is taken back: the newer one holds."""
    at = now_us()
    db.execute(
        "UPDATE command SET state = 'failed', ended_us = ?, failure = 'Asked for again before the probe took it.' "
        "WHERE probe_id = ? AND kind = ? AND state = 'waiting'",
        (at, probe_id, kind),
    )
    cursor = db.execute(
        "INSERT INTO command (probe_id, kind, arguments, state, asked_by, created_us) "
        "VALUES (?, ?, ?, 'waiting', ?, ?)",
        (probe_id, kind, json.dumps(arguments or {}), asked_by, at),
    )
    return int(cursor.lastrowid or 0)


def take_next(db: sqlite3.Connection, probe_id: int) -> Command | None:
    """The oldest command that waits for this probe, now taken by it."""
    row = db.execute(
        "UPDATE command SET state = 'taken', taken_us = ? WHERE id = (SELECT id FROM command "
        "WHERE probe_id = ? AND state = 'waiting' ORDER BY id LIMIT 1) RETURNING id",
        (now_us(), probe_id),
    ).fetchone()
    return command_by_id(db, row[0]) if row else None


def has_open(db: sqlite3.Connection, probe_id: int) -> bool:
    """Whether a command waits for this probe or was taken by it."""
    row = db.execute(
        "SELECT 1 FROM command WHERE probe_id = ? AND state IN ('waiting', 'taken') LIMIT 1", (probe_id,)
    ).fetchone()
    return row is not None


def give_up_taken(db: sqlite3.Connection, probe_id: int) -> None:
    """A probe that asks for more has nothing under way: what it had taken was lost with its disk."""
    db.execute(
        "UPDATE command SET state = 'failed', ended_us = ?, failure = 'The probe lost it. Try again.' "
        "WHERE probe_id = ? AND state = 'taken'",
        (now_us(), probe_id),
    )


def finish(db: sqlite3.Connection, command_id: int, result: dict[str, Any] | None, failure: str | None) -> None:
    """Told again changes nothing."""
    db.execute(
        "UPDATE command SET state = ?, ended_us = ?, result = ?, failure = ? WHERE id = ? AND state = 'taken'",
        ("failed" if failure else "done", now_us(), json.dumps(result or {}), failure, command_id),
    )


def command_by_id(db: sqlite3.Connection, command_id: int) -> Command:
    """Raises KeyError."""
    row = db.execute(f"{_SELECT} WHERE command.id = ?", (command_id,)).fetchone()
    if row is None:
        raise KeyError(command_id)
    return _command(row)


def commands_of(db: sqlite3.Connection, probe_id: int, limit: int) -> list[Command]:
    """Newest first."""
    rows = db.execute(f"{_SELECT} WHERE probe_id = ? ORDER BY command.id DESC LIMIT ?", (probe_id, limit))
    return [_command(row) for row in rows]


def _command(row: sqlite3.Row) -> Command:
    result = json.loads(row["result"]) if row["result"] else None
    return Command(**{**dict(row), "arguments": json.loads(row["arguments"]), "result": result})
