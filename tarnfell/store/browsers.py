"""Browsers that test from their desk: what their links ask of them, and the halves of their packets.

offered ──► the page has delivered its half ──► joined with the far end's: delivered like a probe's record
   └──► silent, or it could not begin: the run failed
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store import probes as probe_store
from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe
from tarnfell.store.runs import COUNTS
from tarnfell.wire.browser import CallsAsked
from tarnfell.wire.kinds.fields import plain, read, read_known
from tarnfell.wire.kinds.reach import BrowserReach

SOCKET_HALVES = "socket-halves"
"""Of the data folder: this server's own packets of tests over a WebSocket, by token, until they are joined with the
page's."""
Way = Literal["straight", "relay", "socket"]
"""How a test's packets went: by UDP and nothing between, through a relay, or over a WebSocket to this server."""


@dataclass(frozen=True)
class BrowserLink:
    """What is asked of whoever opens the link. The link itself is an invitation of its probe."""

    probe_id: int
    codec: str
    ptime_ms: int
    calls: int
    seconds: float
    fill_s: float = 0.0
    """How long the line is filled each way after the calls; 0: it is not."""


@dataclass(frozen=True)
class BrowserHalf:
    """What one end of a job has measured, or is to measure."""

    job_id: int
    token: str
    half_sha256: str | None
    half_us: int | None
    not_before_us: int


_LINK = f"SELECT {', '.join(f.name for f in fields(BrowserLink))} FROM browser_link"
_HALF = f"SELECT {', '.join(f.name for f in fields(BrowserHalf))} FROM browser_half"


def add_link(
    db: sqlite3.Connection, site_id: int, test_point_id: int, name: str, codec: str, ptime_ms: int, calls: int,
    seconds: float, fill_s: float = 0.0,
) -> int:  # fmt: skip
    """The number of the probe that stands for the browser."""
    number = probe_store.add_probe(db, site_id, test_point_id, name, kind="browser")
    db.execute(
        "INSERT INTO browser_link (probe_id, codec, ptime_ms, calls, seconds, fill_s) VALUES (?, ?, ?, ?, ?, ?)",
        (number, codec, ptime_ms, calls, seconds, fill_s),
    )
    return number


def link_of(db: sqlite3.Connection, probe_id: int) -> BrowserLink | None:
    """None for a probe that is a program."""
    row = db.execute(f"{_LINK} WHERE probe_id = ?", (probe_id,)).fetchone()
    return BrowserLink(*row) if row else None


def browsers_of(db: sqlite3.Connection, site_id: int) -> list[Probe]:
    """Newest first; those whose link was put away are kept with their runs, and not listed."""
    return probe_store.probes_of(db, site_id, kind="browser")[::-1]


def begin(
    db: sqlite3.Connection, job_id: int, token: str, web_source: str | None, way: Way = "straight",
    asked: CallsAsked | None = None,
) -> None:  # fmt: skip
    """``asked`` of a test over a WebSocket, which is asked of nobody else."""
    db.execute(
        "INSERT INTO browser_half (job_id, token, asked) VALUES (?, ?, ?)",
        (job_id, token, json.dumps(plain(asked)) if asked else None),
    )
    db.execute("INSERT INTO browser_reach (job_id, web_source, way) VALUES (?, ?, ?)", (job_id, web_source, way))


_SOCKET = (
    "SELECT browser_half.job_id, asked FROM browser_half JOIN job ON job.id = browser_half.job_id WHERE token = ? "
    "AND asked IS NOT NULL AND opened_us IS NULL AND half_sha256 IS NULL AND job.state IN ('taken', 'running')"
)


def socket_waits(db: sqlite3.Connection, token: str) -> bool:
    return db.execute(_SOCKET, (token,)).fetchone() is not None


def take_up_socket(db: sqlite3.Connection, token: str) -> CallsAsked | None:
    """What was asked of the test with this token, the first time; None where it is over, or was never made."""
    row = db.execute(_SOCKET, (token,)).fetchone()
    if row is None:
        return None
    db.execute("UPDATE browser_half SET opened_us = ? WHERE job_id = ?", (now_us(), row[0]))
    return read(CallsAsked, json.loads(row[1]))


def keep_reach(db: sqlite3.Connection, job_id: int, reach: BrowserReach) -> None:
    """A page that says that it went through a relay did so, whatever it was to do."""
    relayed = reach.page is not None and reach.page.own == "relay"
    db.execute(
        "UPDATE browser_reach SET told = ?, way = CASE WHEN ? THEN 'relay' ELSE way END WHERE job_id = ?",
        (json.dumps(plain(reach)), relayed, job_id),
    )


def reach_of(db: sqlite3.Connection, job_id: int) -> tuple[BrowserReach, str | None]:
    """With the address that the web server saw; of a job from before this was asked, nothing."""
    row = db.execute("SELECT told, web_source FROM browser_reach WHERE job_id = ?", (job_id,)).fetchone()
    return (read_known(BrowserReach, json.loads(row[0])), row[1]) if row else (BrowserReach(), None)


def keep_half(db: sqlite3.Connection, job_id: int, sha256: str) -> bool:
    """Whether it is the first that came of this job; the others are not needed."""
    found = db.execute(
        "UPDATE browser_half SET half_sha256 = ?, half_us = ? WHERE job_id = ? AND half_sha256 IS NULL",
        (sha256, now_us(), job_id),
    )
    return found.rowcount > 0


def half_of(db: sqlite3.Connection, job_id: int) -> BrowserHalf | None:
    row = db.execute(f"{_HALF} WHERE job_id = ?", (job_id,)).fetchone()
    return BrowserHalf(*row) if row else None


def next_halves(db: sqlite3.Connection, limit: int) -> list[BrowserHalf]:
    """Those that wait for the far end's and are due, oldest first."""
    rows = db.execute(
        f"{_HALF} WHERE half_sha256 IS NOT NULL AND not_before_us <= ? ORDER BY job_id LIMIT ?", (now_us(), limit)
    )
    return [BrowserHalf(*row) for row in rows]


def put_off(db: sqlite3.Connection, one: BrowserHalf, pause_us: int) -> None:
    db.execute("UPDATE browser_half SET not_before_us = ? WHERE job_id = ?", (now_us() + pause_us, one.job_id))


def way_of(db: sqlite3.Connection, job_id: int) -> Way:
    """Straight where nothing is on record."""
    row = db.execute("SELECT way FROM browser_reach WHERE job_id = ?", (job_id,)).fetchone()
    return row[0] if row else "straight"


def by_other_ways(db: sqlite3.Connection, site_id: int) -> set[int]:
    """Numbers of the jobs whose packets did not go the way of the site's calls."""
    rows = db.execute(
        "SELECT job_id FROM browser_reach JOIN job ON job.id = job_id WHERE site_id = ? AND way <> 'straight'",
        (site_id,),
    )
    return {row[0] for row in rows}


def forget(db: sqlite3.Connection, job_id: int) -> None:
    """Its record is whole, or will never be."""
    db.execute("DELETE FROM browser_half WHERE job_id = ?", (job_id,))


def halves_named(db: sqlite3.Connection) -> set[str]:
    """The files that are still needed."""
    return {row[0] for row in db.execute("SELECT half_sha256 FROM browser_half WHERE half_sha256 IS NOT NULL")}


def numbers_of(db: sqlite3.Connection, site_id: int) -> set[int]:
    """Of all browsers that ever tested at a site, as probes are numbered."""
    return {row[0] for row in db.execute("SELECT id FROM probe WHERE site_id = ? AND kind = 'browser'", (site_id,))}


def newest_runs(db: sqlite3.Connection, probe_id: int, limit: int) -> list[int]:
    """Numbers of the runs of one browser, newest first."""
    rows = db.execute("SELECT id FROM run_job WHERE probe_id = ? ORDER BY id DESC LIMIT ?", (probe_id, limit))
    return [row[0] for row in rows]


def run_beside(db: sqlite3.Connection, probe_id: int, at_us: int) -> int | None:
    """The number of the run with results that a probe placed at the browser's test point, nearest to that time."""
    row = db.execute(
        "SELECT r.id FROM run_job r JOIN probe ON probe.id = r.probe_id JOIN probe own ON own.id = ? "
        "WHERE probe.test_point_id = own.test_point_id AND probe.kind = 'program' AND r.state = 'done' "
        "ORDER BY abs(coalesce(r.begun_us, r.created_us) - ?), r.id DESC LIMIT 1",
        (probe_id, at_us),
    ).fetchone()
    return row[0] if row else None


def not_counted(db: sqlite3.Connection, site_id: int) -> int:
    """Calls with results that browsers placed at a site, and that are no evidence."""
    row = db.execute(
        # From the browsers on: most sites have none, and all have runs.
        "SELECT coalesce(sum(r.calls), 0) FROM probe CROSS JOIN run_job r ON r.probe_id = probe.id "
        f"WHERE probe.site_id = ? AND probe.kind = 'browser' AND r.state = 'done' AND NOT ({COUNTS})",
        (site_id,),
    ).fetchone()
    return int(row[0])
