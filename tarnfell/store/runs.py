"""Runs and their visible life: waiting → taken → running → done, or failed with the reason.

A run that was given up because its probe fell silent still becomes done when
the record arrives after all.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import asdict, dataclass, fields
from typing import Any, Literal

from tarnfell.core.rates import Flow, VideoLoad
from tarnfell.store.db import now_us
from tarnfell.store.videos import loads_from_json, loads_to_json
from tarnfell.wire.failures import Failure

StopReason = Literal["asked", "heavy-loss"]
State = Literal["waiting", "taken", "running", "done", "failed"]

FOLLOWS: dict[str, tuple[State, ...]] = {
    "waiting": ("taken", "done", "failed"),  # done: a database put back from yesterday's copy has missed the rest
    "taken": ("running", "done", "failed"),
    "running": ("done", "failed"),
    "failed": ("done",),
    "done": (),
}
TAKEN_BACK = "Cancelled before the probe started."
SILENCE_US = 60 * 1_000_000
"""A probe silent this long in the middle of a run is taken to be gone."""


@dataclass(frozen=True)
class RunSpec:
    """Calls to be placed: from where to where, what, and for which series. Fields are columns of ``run``."""

    site_id: int
    probe_id: int
    far_end_id: int
    codec: str
    ptime_ms: int
    calls: int
    """Concurrent ones."""
    seconds: float
    dscp: int
    direction: Flow = "both"
    video: tuple[VideoLoad, ...] = ()
    purpose: str = "placed"
    asked_by: int | None = None
    series_id: int | None = None
    round: int | None = None


@dataclass(frozen=True)
class Run:
    id: int
    site_id: int
    probe_id: int
    far_end_id: int
    purpose: str
    state: State
    codec: str
    ptime_ms: int
    calls: int
    seconds: float
    dscp: int
    created_us: int
    begun_us: int | None
    ended_us: int | None
    stop_reason: StopReason | None
    failure: str | None
    self_check: str | None
    record_sha256: str | None
    tainted: int
    series_id: int | None
    round: int | None
    direction: Flow
    video: tuple[VideoLoad, ...]
    failure_code: str | None
    """Of a failed or cut run, from wire/failures.py; None where it was told as a sentence alone."""
    cut_reason: str | None
    """Of a run that is done with the probe's half only."""
    cut_after_s: float | None
    server_reachable: int | None
    name: str
    """What people call it; may be empty."""
    note: str

    @property
    def video_streams(self) -> int:
        return sum(load.streams for load in self.video)


@dataclass(frozen=True)
class RunEvent:
    at_us: int
    state: str
    words: str


_COLUMNS = ", ".join(f.name for f in fields(Run))


def _run(row: sqlite3.Row) -> Run:
    values = dict(row)
    return Run(**values | {"video": loads_from_json(values["video"])})


class WrongState(RuntimeError):
    """The run cannot go there from where it is."""


def add_run(db: sqlite3.Connection, spec: RunSpec, words: str, at_us: int | None = None) -> Run:
    """A run that waits for its probe; ``words`` are the first line of its log."""
    at = at_us or now_us()
    values = asdict(spec) | {"video": loads_to_json(spec.video), "state": "waiting", "created_us": at}
    columns, marks = ", ".join(values), ", ".join(f":{name}" for name in values)
    run_id = int(db.execute(f"INSERT INTO run ({columns}) VALUES ({marks})", values).lastrowid or 0)
    _tell(db, run_id, "waiting", words, at)
    return run_by_id(db, run_id)


def run_by_id(db: sqlite3.Connection, run_id: int) -> Run:
    """Raises KeyError."""
    row = db.execute(f"SELECT {_COLUMNS} FROM run WHERE id = ?", (run_id,)).fetchone()
    if row is None:
        raise KeyError(run_id)
    return _run(row)


def move(db: sqlite3.Connection, run: Run, state: State, words: str, at_us: int | None = None) -> None:
    """Change the state and write the event. Raises WrongState."""
    if state not in FOLLOWS[run.state]:
        raise WrongState(f"Run {run.id} is {run.state}; it cannot become {state}.")
    at = at_us or now_us()
    db.execute(
        "UPDATE run SET state = ?, "
        # The link it is measured on: the probe may stand on another one tomorrow.
        "medium = CASE WHEN ? = 'taken' THEN (SELECT json_extract(environment, '$.medium') FROM probe "
        "WHERE probe.id = run.probe_id) ELSE medium END, "
        "begun_us = CASE WHEN ? = 'running' THEN ? ELSE begun_us END, "
        "ended_us = CASE WHEN ? IN ('done', 'failed') THEN ? ELSE ended_us END, "
        "failure = CASE WHEN ? = 'failed' THEN ? ELSE NULL END WHERE id = ?",
        (state, state, state, at, state, at, state, words, run.id),
    )
    _tell(db, run.id, state, words, at)


def keep_cut(db: sqlite3.Connection, run_id: int, cut: Failure) -> None:
    """What broke the run off. Its state is moved apart."""
    keep_failure(db, run_id, cut)
    db.execute("UPDATE run SET cut_reason = ?, cut_after_s = ? WHERE id = ?", (cut.reason, cut.after_s, run_id))


def keep_failure(db: sqlite3.Connection, run_id: int, failure: Failure) -> None:
    """Its code, and whether the server could be reached at that instant."""
    reachable = None if failure.server_reachable is None else int(failure.server_reachable)
    db.execute("UPDATE run SET failure_code = ?, server_reachable = ? WHERE id = ?", (failure.code, reachable, run_id))


def failed_runs(db: sqlite3.Connection, site_id: int) -> list[Run]:
    """In the order of time."""
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM run WHERE site_id = ? AND state = 'failed' ORDER BY created_us, id", (site_id,)
    )
    return [_run(row) for row in rows]


def taken_us(db: sqlite3.Connection, run: Run) -> int | None:
    """When a probe last took the run; None where none did."""
    row = db.execute("SELECT max(at_us) FROM run_event WHERE run_id = ? AND state = 'taken'", (run.id,)).fetchone()
    return None if row[0] is None else int(row[0])


def _tell(db: sqlite3.Connection, run_id: int, state: str, words: str, at_us: int) -> None:
    db.execute(
        "INSERT INTO run_event (run_id, at_us, state, words) VALUES (?, ?, ?, ?)",
        (run_id, at_us, state, words),
    )


def tell(db: sqlite3.Connection, run: Run, words: str) -> None:
    """A line in the run's log that changes nothing of its state."""
    _tell(db, run.id, run.state, words, now_us())


def events(db: sqlite3.Connection, run_id: int) -> list[RunEvent]:
    rows = db.execute("SELECT at_us, state, words FROM run_event WHERE run_id = ? ORDER BY id", (run_id,))
    return [RunEvent(*row) for row in rows]


def next_for(db: sqlite3.Connection, probe_id: int) -> Run | None:
    """The oldest run that waits for this probe."""
    row = db.execute(
        f"SELECT {_COLUMNS} FROM run WHERE probe_id = ? AND state = 'waiting' ORDER BY id LIMIT 1",
        (probe_id,),
    ).fetchone()
    return _run(row) if row else None


def out_with(db: sqlite3.Connection, probe_id: int) -> list[Run]:
    """Runs this probe has taken and not delivered, oldest first."""
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM run WHERE probe_id = ? AND state IN ('taken', 'running') "
        "AND NOT EXISTS (SELECT 1 FROM delivery WHERE delivery.run_id = run.id) ORDER BY id",
        (probe_id,),
    )
    return [_run(row) for row in rows]


def open_runs(db: sqlite3.Connection, site_id: int) -> list[Run]:
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM run WHERE site_id = ? AND state IN ('waiting', 'taken', 'running') ORDER BY id",
        (site_id,),
    )
    return [_run(row) for row in rows]


_PLACED = (
    "site_id = ?1 AND purpose = 'placed' AND (?2 = '' OR instr(lower(name || ' ' || note || ' ' || codec || ' ' || "
    "state || ' ' || coalesce(failure, '')), lower(?2)) > 0)"
)


def placed_runs(db: sqlite3.Connection, site_id: int, limit: int, offset: int = 0, words: str = "") -> list[Run]:
    """Runs somebody asked for, newest first; those of which name, note, codec, state or failure holds ``words``."""
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM run WHERE {_PLACED} ORDER BY created_us DESC LIMIT ?3 OFFSET ?4",
        (site_id, words, limit, offset),
    )
    return [_run(row) for row in rows]


def describe(db: sqlite3.Connection, run_id: int, name: str, note: str) -> None:
    """Give a run the name people call it by, and what they note of it."""
    db.execute("UPDATE run SET name = ?, note = ? WHERE id = ?", (name, note, run_id))


def placed_by_probe(db: sqlite3.Connection, probe_id: int, limit: int) -> list[Run]:
    """Runs somebody asked this probe for, newest first."""
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM run WHERE probe_id = ? AND purpose = 'placed' ORDER BY created_us DESC LIMIT ?",
        (probe_id, limit),
    )
    return [_run(row) for row in rows]


def asked_by(db: sqlite3.Connection, run_id: int) -> str | None:
    """The name of who asked for the run."""
    row = db.execute(
        "SELECT user.name FROM user JOIN run ON run.asked_by = user.id WHERE run.id = ?", (run_id,)
    ).fetchone()
    return row[0] if row else None


def count_placed(db: sqlite3.Connection, site_id: int, words: str = "") -> int:
    row = db.execute(f"SELECT count(*) FROM run WHERE {_PLACED}", (site_id, words)).fetchone()
    return int(row[0])


def runs_of_series(db: sqlite3.Connection, series_id: int) -> list[Run]:
    """In the order they were placed."""
    return [
        _run(row) for row in db.execute(f"SELECT {_COLUMNS} FROM run WHERE series_id = ? ORDER BY id", (series_id,))
    ]


def newest_seconds(db: sqlite3.Connection, run_id: int, count: int) -> list[dict[str, Any]]:
    """Newest first."""
    rows = db.execute("SELECT body FROM run_second WHERE run_id = ? ORDER BY second DESC LIMIT ?", (run_id, count))
    return [json.loads(row[0]) for row in rows]


def ask_stop(
    db: sqlite3.Connection,
    run: Run,
    reason: StopReason = "asked",
    words: str = "Stop requested.",
    waiting: str = TAKEN_BACK,
) -> None:
    """A waiting run ends at once, with ``waiting`` as the reason; a running one is stopped at the next second."""
    if run.state == "waiting":
        move(db, run, "failed", waiting)
    elif run.state in ("taken", "running"):
        db.execute("UPDATE run SET stop_reason = coalesce(stop_reason, ?) WHERE id = ?", (reason, run.id))
        _tell(db, run.id, run.state, words, now_us())


def add_second(db: sqlite3.Connection, run_id: int, second: int, body: dict[str, Any]) -> None:
    db.execute(
        "INSERT OR REPLACE INTO run_second (run_id, second, body) VALUES (?, ?, ?)",
        (run_id, second, json.dumps(body, separators=(",", ":"))),
    )


def seconds_after(db: sqlite3.Connection, run_id: int, second: int, limit: int = 600) -> list[dict[str, Any]]:
    rows = db.execute(
        "SELECT body FROM run_second WHERE run_id = ? AND second > ? ORDER BY second LIMIT ?",
        (run_id, second, limit),
    )
    return [json.loads(row[0]) for row in rows]


def give_up_silent(db: sqlite3.Connection, run_ids: Iterable[int]) -> None:
    for run_id in run_ids:
        run = run_by_id(db, run_id)
        if run.state in ("taken", "running"):
            words = (
                "The probe went offline during the run. Check its power and network. "
                "If it comes back with the packets, this run is completed."
            )
            move(db, run, "failed", words)


def silent_runs(db: sqlite3.Connection) -> list[int]:
    """Runs under way whose probe has not been heard for SILENCE_US."""
    rows = db.execute(
        "SELECT run.id FROM run JOIN probe ON probe.id = run.probe_id "
        "WHERE run.state IN ('taken', 'running') AND coalesce(probe.last_contact_us, 0) < ? "
        # The packets of these are here already.
        "AND NOT EXISTS (SELECT 1 FROM delivery WHERE delivery.run_id = run.id)",
        (now_us() - SILENCE_US,),
    )
    return [row[0] for row in rows]
