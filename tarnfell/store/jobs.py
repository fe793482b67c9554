"""Everything a probe is asked to do, of whatever kind, and its visible life.

    waiting ── given to the probe ──► taken ── it has begun ──► running ── its result is here ──► done
       │                                │                          │
       └── taken back ──────────────────┴── it failed, was lost ───┴────────────────────────────► failed

A job that was given up because its probe went offline still becomes done when the result arrives. What the kinds are,
and which may go on at once, is said in tarnfell/wire/kinds.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Literal

from pydantic import TypeAdapter

from tarnfell.store.db import now_us
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds import Name
from tarnfell.wire.kinds.calls import LiveSecond

StopReason = Literal["asked", "heavy-loss"]
State = Literal["waiting", "taken", "running", "done", "failed"]

_LIVE_SECOND = TypeAdapter(LiveSecond)
OPEN: tuple[State, ...] = ("waiting", "taken", "running")

FOLLOWS: dict[str, tuple[State, ...]] = {
    "waiting": ("taken", "done", "failed"),  # done: a database put back from yesterday's copy has missed the rest
    "taken": ("running", "done", "failed"),
    "running": ("done", "failed"),
    "failed": ("done",),
    "done": (),
}
TAKEN_BACK = "Cancelled before the probe started."
PAGE_CLOSED = (
    "The page in the browser was closed, or fell asleep, before it delivered its packets. Opening the link again in "
    "that browser delivers those that it kept."
)
SUPERSEDED = "Asked for again before the probe took it."
SILENCE_US = 60 * 1_000_000
"""A probe silent this long with a job in hand is taken to be gone."""

WORDS: dict[Name, str] = {
    "calls": "Place calls",
    "check": "Check the site’s network",
    "fill": "Fill the line with calls beside it",
    "flow": "Load the line with small packets",
    "look": "Look at addresses",
    "services": "Ask names and services",
    "distances": "Check reachability and round trip",
    "update": "Update the probe",
    "answer": "Answer calls as a far end",
    "silence": "Stop answering calls",
    "end": "End its work and clear up",
}


@dataclass(frozen=True)
class Job:
    id: int
    site_id: int
    probe_id: int
    kind: Name
    arguments: Mapping[str, object]
    """Empty for calls: theirs are in the run."""
    state: State
    asked_by: int | None
    created_us: int
    taken_us: int | None
    """When a probe last took it; None where none did."""
    begun_us: int | None
    ended_us: int | None
    stop_reason: StopReason | None
    failure: str | None
    failure_code: str | None
    """From wire/failures.py; None where it was told as a sentence alone."""
    server_reachable: int | None
    result: Mapping[str, object] | None


@dataclass(frozen=True)
class JobEvent:
    at_us: int
    state: str
    words: str


_JOB = f"SELECT {', '.join(f.name for f in fields(Job))} FROM job"


def _job(row: sqlite3.Row) -> Job:
    result = json.loads(row["result"]) if row["result"] else None
    return Job(**{**dict(row), "arguments": json.loads(row["arguments"]), "result": result})


class WrongState(RuntimeError):
    """The job cannot go there from where it is."""


def add(
    db: sqlite3.Connection,
    site_id: int,
    probe_id: int,
    kind: Name,
    words: str,
    asked_by: int | None = None,
    arguments: Mapping[str, object] | None = None,
    at_us: int | None = None,
) -> int:
    """A job that waits for its probe; ``words`` are the first line of its log."""
    at = at_us or now_us()
    cursor = db.execute(
        "INSERT INTO job (site_id, probe_id, kind, arguments, state, asked_by, created_us) "
        "VALUES (?, ?, ?, ?, 'waiting', ?, ?)",
        (site_id, probe_id, kind, json.dumps(arguments or {}), asked_by, at),
    )
    number = int(cursor.lastrowid or 0)
    _tell(db, number, "waiting", words, at)
    return number


def ask(
    db: sqlite3.Connection,
    site_id: int,
    probe_id: int,
    kind: Name,
    asked_by: int | None,
    arguments: Mapping[str, object] | None = None,
) -> int:
    """As ``add``; one of the same kind that still waits is taken back: the newer one holds."""
    rows = db.execute("SELECT id FROM job WHERE probe_id = ? AND kind = ? AND state = 'waiting'", (probe_id, kind))
    for row in rows.fetchall():
        move(db, row[0], "failed", SUPERSEDED)
    return add(db, site_id, probe_id, kind, "Requested.", asked_by, arguments)


def newest_of_kind(db: sqlite3.Connection, site_id: int, kind: Name, limit: int) -> list[Job]:
    """Newest first."""
    rows = db.execute(f"{_JOB} WHERE site_id = ? AND kind = ? ORDER BY id DESC LIMIT ?", (site_id, kind, limit))
    return [_job(row) for row in rows]


def newest_done(db: sqlite3.Connection, probe_id: int, kind: Name) -> Job | None:
    rows = db.execute(
        f"{_JOB} WHERE probe_id = ? AND state = 'done' AND kind = ? ORDER BY id DESC LIMIT 1", (probe_id, kind)
    )
    return next(map(_job, rows), None)


def newest_with(db: sqlite3.Connection, probe_id: int, kind: Name, limit: int) -> list[Job]:
    """As ``newest_of_kind``, of one probe."""
    rows = db.execute(f"{_JOB} WHERE probe_id = ? AND kind = ? ORDER BY id DESC LIMIT ?", (probe_id, kind, limit))
    return [_job(row) for row in rows]


def open_of_kind(db: sqlite3.Connection, site_id: int, kind: Name) -> list[Job]:
    """Not ended yet, newest first."""
    marks = ", ".join("?" * len(OPEN))
    rows = db.execute(
        f"{_JOB} WHERE site_id = ? AND kind = ? AND state IN ({marks}) ORDER BY id DESC", (site_id, kind, *OPEN)
    )
    return [_job(row) for row in rows]


def taken_since(db: sqlite3.Connection, site_id: int, kinds: Sequence[Name], since_us: int) -> list[Job]:
    """Those that a probe has taken since, of these kinds, in the order of asking."""
    marks = ", ".join("?" for _ in kinds)
    rows = db.execute(
        f"{_JOB} WHERE site_id = ? AND kind IN ({marks}) AND taken_us >= ? ORDER BY id", (site_id, *kinds, since_us)
    )
    return [_job(row) for row in rows]


def times_since(
    db: sqlite3.Connection, site_id: int, kinds: Sequence[Name], since_us: int
) -> list[tuple[int, int | None]]:
    """As ``taken_since``: only when each began, as far as that is known, and ended."""
    marks = ", ".join("?" for _ in kinds)
    rows = db.execute(
        f"SELECT coalesce(begun_us, taken_us), ended_us FROM job WHERE site_id = ? AND kind IN ({marks}) "
        "AND taken_us >= ? ORDER BY id",
        (site_id, *kinds, since_us),
    )
    return [(row[0], row[1]) for row in rows]


def loads_begun(db: sqlite3.Connection, site_id: int, from_us: int, until_us: int, each_us: int) -> list[int]:
    """When runs, fills and packet loads that somebody asked for began, without what a watch does by itself: the first
    of each stretch of so many microseconds, in the order of time."""
    rows = db.execute(
        "SELECT min(begun_us) FROM (SELECT begun_us FROM job WHERE site_id = ?1 AND placed = 1 UNION ALL "
        "SELECT begun_us FROM job WHERE site_id = ?1 AND kind IN ('fill', 'flow')) "
        "WHERE begun_us >= ?2 AND begun_us < ?3 GROUP BY begun_us / ?4 ORDER BY 1",
        (site_id, from_us, until_us, each_us),
    )
    return [row[0] for row in rows]


def job_by_id(db: sqlite3.Connection, job_id: int) -> Job:
    """Raises KeyError."""
    row = db.execute(f"{_JOB} WHERE id = ?", (job_id,)).fetchone()
    if row is None:
        raise KeyError(job_id)
    return _job(row)


def move(db: sqlite3.Connection, job_id: int, state: State, words: str, at_us: int | None = None) -> None:
    """Change the state and write the event. Raises WrongState, KeyError."""
    job = job_by_id(db, job_id)
    if state not in FOLLOWS[job.state]:
        raise WrongState(f"Job {job_id} is {job.state}; it cannot become {state}.")
    at = at_us or now_us()
    if state == "taken":
        # The link it is measured on: the probe may stand on another one tomorrow.
        db.execute(
            "UPDATE job SET taken_us = ?, medium = (SELECT json_extract(environment, '$.medium') FROM probe "
            "WHERE probe.id = job.probe_id) WHERE id = ?",
            (at, job_id),
        )
    elif state == "running":
        db.execute("UPDATE job SET begun_us = ? WHERE id = ?", (at, job_id))
    else:
        db.execute("UPDATE job SET ended_us = ? WHERE id = ?", (at, job_id))
    failure = words if state == "failed" else None
    db.execute("UPDATE job SET state = ?, failure = ? WHERE id = ?", (state, failure, job_id))
    _tell(db, job_id, state, words, at)


def keep_failure(db: sqlite3.Connection, job_id: int, failure: Failure) -> None:
    """Its code, and whether the server could be reached at that instant. The state is moved apart."""
    reachable = None if failure.server_reachable is None else int(failure.server_reachable)
    db.execute("UPDATE job SET failure_code = ?, server_reachable = ? WHERE id = ?", (failure.code, reachable, job_id))


def keep_result(db: sqlite3.Connection, job_id: int, result: Mapping[str, object]) -> None:
    db.execute("UPDATE job SET result = ? WHERE id = ?", (json.dumps(result), job_id))


def _tell(db: sqlite3.Connection, job_id: int, state: str, words: str, at_us: int) -> None:
    db.execute("INSERT INTO job_event (job_id, at_us, state, words) VALUES (?, ?, ?, ?)", (job_id, at_us, state, words))


def tell(db: sqlite3.Connection, job_id: int, words: str) -> None:
    """A line in the job's log that changes nothing of its state."""
    _tell(db, job_id, job_by_id(db, job_id).state, words, now_us())


def events(db: sqlite3.Connection, job_id: int) -> list[JobEvent]:
    """In the order they were told."""
    rows = db.execute("SELECT at_us, state, words FROM job_event WHERE job_id = ? ORDER BY id", (job_id,))
    return [JobEvent(*row) for row in rows]


def waiting_for(db: sqlite3.Connection, probe_id: int) -> list[Job]:
    """Jobs this probe has not taken yet, oldest first."""
    rows = db.execute(f"{_JOB} WHERE probe_id = ? AND state = 'waiting' ORDER BY id", (probe_id,))
    return [_job(row) for row in rows]


_NOT_HERE = (
    "NOT EXISTS (SELECT 1 FROM delivery WHERE delivery.run_id = job.id) AND NOT EXISTS "
    "(SELECT 1 FROM browser_half WHERE browser_half.job_id = job.id AND half_sha256 IS NOT NULL)"
)
"""Its packets have not arrived: what has is judged in turn, whatever becomes of the probe or page."""


def out_with(db: sqlite3.Connection, probe_id: int) -> list[Job]:
    """Jobs this probe has taken and not delivered, oldest first."""
    rows = db.execute(
        f"{_JOB} WHERE probe_id = ? AND state IN ('taken', 'running') AND {_NOT_HERE} ORDER BY id", (probe_id,)
    )
    return [_job(row) for row in rows]


def told_to(db: sqlite3.Connection, probe_id: int, limit: int) -> list[Job]:
    """What this probe was asked to do, newest first, without runs that a watch placed."""
    rows = db.execute(
        f"{_JOB} WHERE probe_id = ? AND kind <> 'services' "
        "AND NOT EXISTS (SELECT 1 FROM run WHERE run.id = job.id AND purpose = 'watch') "
        "ORDER BY created_us DESC, id DESC LIMIT ?",
        (probe_id, limit),
    )
    return [_job(row) for row in rows]


def asker(db: sqlite3.Connection, job_id: int) -> str | None:
    """The name of who asked for it; None where a plan did."""
    row = db.execute(
        "SELECT user.name FROM user JOIN job ON job.asked_by = user.id WHERE job.id = ?", (job_id,)
    ).fetchone()
    return row[0] if row else None


def ask_stop(
    db: sqlite3.Connection,
    job_id: int,
    reason: StopReason = "asked",
    words: str = "Stop requested.",
    waiting: str = TAKEN_BACK,
) -> None:
    """A waiting job ends at once, with ``waiting`` as the reason; one under way is stopped by its probe."""
    state = job_by_id(db, job_id).state
    if state == "waiting":
        move(db, job_id, "failed", waiting)
    elif state in ("taken", "running"):
        db.execute("UPDATE job SET stop_reason = coalesce(stop_reason, ?) WHERE id = ?", (reason, job_id))
        tell(db, job_id, words)


def live_second(told: str) -> LiveSecond:
    return _LIVE_SECOND.validate_json(told)


def newest_seconds(db: sqlite3.Connection, job_id: int, count: int) -> list[LiveSecond]:
    """Newest first."""
    rows = db.execute("SELECT body FROM job_second WHERE job_id = ? ORDER BY second DESC LIMIT ?", (job_id, count))
    return [live_second(row[0]) for row in rows]


def add_second(db: sqlite3.Connection, job_id: int, second: int, told: str) -> None:
    """What the probe told of it, as JSON of a LiveSecond."""
    db.execute(
        "INSERT OR REPLACE INTO job_second (job_id, second, body) VALUES (?, ?, ?)",
        (job_id, second, told),
    )


def seconds_after(db: sqlite3.Connection, job_id: int, second: int, limit: int = 600) -> list[tuple[int, str]]:
    """Each second's number and what was told of it, as JSON; in order."""
    rows = db.execute(
        "SELECT second, body FROM job_second WHERE job_id = ? AND second > ? ORDER BY second LIMIT ?",
        (job_id, second, limit),
    )
    return [(row[0], row[1]) for row in rows]


def silent_jobs(db: sqlite3.Connection) -> list[int]:
    """Jobs under way whose probe has not been in contact for SILENCE_US."""
    rows = db.execute(
        # From the probes on: there are few of them, and ever more jobs.
        "SELECT job.id FROM probe CROSS JOIN job ON job.probe_id = probe.id WHERE job.state IN ('taken', 'running') "
        f"AND coalesce(probe.last_contact_us, 0) < ? AND {_NOT_HERE}",
        (now_us() - SILENCE_US,),
    )
    return [row[0] for row in rows]


def _is_browsers(db: sqlite3.Connection, probe_id: int) -> bool:
    row = db.execute("SELECT kind FROM probe WHERE id = ?", (probe_id,)).fetchone()
    return row is not None and row[0] == "browser"


def give_up_silent(db: sqlite3.Connection, job_ids: Iterable[int]) -> None:
    for job_id in job_ids:
        job = job_by_id(db, job_id)
        if job.state in ("taken", "running"):
            if _is_browsers(db, job.probe_id):
                move(db, job_id, "failed", PAGE_CLOSED)
                continue
            if job.kind == "calls":
                during, completed = "during the run", "If it comes back with the packets, this run is completed."
            else:
                during, completed = "before it was done", "If it comes back with the result, this is completed."
            words = f"The probe went offline {during}. Check its power and network. {completed}"
            move(db, job_id, "failed", words)
