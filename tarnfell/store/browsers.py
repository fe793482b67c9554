"""Browsers that test from their desk: what their links ask of them, and the halves of their packets.

offered ──► the page has delivered its half ──► joined with the far end's: delivered like a probe's record
   └──► silent, or it could not begin: the run failed
"""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields

from tarnfell.store import probes as probe_store
from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe


@dataclass(frozen=True)
class BrowserLink:
    """What is asked of whoever opens the link. The link itself is an invitation of its probe."""

    probe_id: int
    codec: str
    ptime_ms: int
    calls: int
    seconds: float


@dataclass(frozen=True)
class BrowserRun:
    run_id: int
    token: str
    half_sha256: str | None
    half_us: int | None
    not_before_us: int


_LINK = f"SELECT {', '.join(f.name for f in fields(BrowserLink))} FROM browser_link"
_RUN = f"SELECT {', '.join(f.name for f in fields(BrowserRun))} FROM browser_run"


def add_link(
    db: sqlite3.Connection, site_id: int, test_point_id: int, name: str, codec: str, ptime_ms: int, calls: int,
    seconds: float,
) -> int:  # fmt: skip
    """The number of the probe that stands for the browser."""
    number = probe_store.add_probe(db, site_id, test_point_id, name, kind="browser")
    db.execute("INSERT INTO browser_link VALUES (?, ?, ?, ?, ?)", (number, codec, ptime_ms, calls, seconds))
    return number


def link_of(db: sqlite3.Connection, probe_id: int) -> BrowserLink | None:
    """None for a probe that is a program."""
    row = db.execute(f"{_LINK} WHERE probe_id = ?", (probe_id,)).fetchone()
    return BrowserLink(*row) if row else None


def browsers_of(db: sqlite3.Connection, site_id: int) -> list[Probe]:
    """Newest first; those whose link was put away are kept with their runs, and not listed."""
    return probe_store.probes_of(db, site_id, kind="browser")[::-1]


def begin(db: sqlite3.Connection, run_id: int, token: str) -> None:
    db.execute("INSERT INTO browser_run (run_id, token) VALUES (?, ?)", (run_id, token))


def keep_half(db: sqlite3.Connection, run_id: int, sha256: str) -> bool:
    """Whether it is the first that came of this run; the others are not needed."""
    found = db.execute(
        "UPDATE browser_run SET half_sha256 = ?, half_us = ? WHERE run_id = ? AND half_sha256 IS NULL",
        (sha256, now_us(), run_id),
    )
    return found.rowcount > 0


def run_of(db: sqlite3.Connection, run_id: int) -> BrowserRun | None:
    row = db.execute(f"{_RUN} WHERE run_id = ?", (run_id,)).fetchone()
    return BrowserRun(*row) if row else None


def next_halves(db: sqlite3.Connection, limit: int) -> list[BrowserRun]:
    """Those that wait for the far end's and are due, oldest first."""
    rows = db.execute(
        f"{_RUN} WHERE half_sha256 IS NOT NULL AND not_before_us <= ? ORDER BY run_id LIMIT ?", (now_us(), limit)
    )
    return [BrowserRun(*row) for row in rows]


def put_off(db: sqlite3.Connection, one: BrowserRun, pause_us: int) -> None:
    db.execute("UPDATE browser_run SET not_before_us = ? WHERE run_id = ?", (now_us() + pause_us, one.run_id))


def forget(db: sqlite3.Connection, run_id: int) -> None:
    """Its record is whole, or will never be."""
    db.execute("DELETE FROM browser_run WHERE run_id = ?", (run_id,))


def halves_named(db: sqlite3.Connection) -> set[str]:
    """The files that are still needed."""
    return {row[0] for row in db.execute("SELECT half_sha256 FROM browser_run WHERE half_sha256 IS NOT NULL")}


def newest_runs(db: sqlite3.Connection, probe_id: int, limit: int) -> list[int]:
    """Numbers of the runs of one browser, newest first."""
    rows = db.execute("SELECT id FROM run_job WHERE probe_id = ? ORDER BY id DESC LIMIT ?", (probe_id, limit))
    return [row[0] for row in rows]


def count_calls(db: sqlite3.Connection, site_id: int) -> int:
    """Calls with results that browsers placed at a site."""
    row = db.execute(
        "SELECT coalesce(sum(r.calls), 0) FROM run_job r JOIN probe ON probe.id = r.probe_id "
        "WHERE r.site_id = ? AND r.state = 'done' AND probe.kind = 'browser'",
        (site_id,),
    ).fetchone()
    return int(row[0])
