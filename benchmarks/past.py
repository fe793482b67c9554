"""What people and the clerk ask all the time, after a week and after a quarter of the same weeks.

Yardstick: the same server answering who is signed in.
"""

from __future__ import annotations

import sqlite3
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from tarnfell.clerk import loop
from tarnfell.demo.history import make_history
from tarnfell.demo.scenario import PASSWORD, USER_EMAIL
from tarnfell.server.http.app import create_app
from tarnfell.store.db import connect
from tarnfell.work.placing.carry_out import carry_out

WEEKS = (1, 4, 13)
TRIES = 5
WEEK_US = 7 * 86_400_000_000
_NUMBERED = {"job": "job", "job_event": "job_event", "run": "job", "call": "call", "video_stream": "video_stream"}
"""Tables with numbers of their own, or of the table that they continue."""
_LEADS = {
    ("job_event", "job_id"): "job", ("call", "run_id"): "job", ("direction", "call_id"): "call",
    ("video_stream", "run_id"): "job", ("picture", "video_stream_id"): "video_stream",
}  # fmt: skip
_TABLES = ("job", "job_event", "run", "call", "direction", "video_stream", "picture", "sample_cell")
_TIMES = (
    "created_us", "taken_us", "begun_us", "ended_us", "started_us", "at_us", "judged_us", "start_us", "first_us",
    "last_us",
)  # fmt: skip


def report() -> str:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make_history(folder, datetime.now(UTC))
        rows = []
        for weeks in WEEKS:
            _aged(folder, weeks - 1)
            rows.append((weeks, *_asked(folder)))
    names = (
        "start page",
        "a site",
        "its watch, seven days",
        "its runs",
        "its report",
        "the clerk, four times a second",
    )
    lines = [
        "## After months",
        "",
        "The demo's six sites, each with as many such weeks as said: what takes how long, the fastest of "
        f"{TRIES}, in ms. What the clerk does is what it asks when there is nothing to do.",
        "",
        f"| weeks | calls kept | who is signed in (yardstick) | {' | '.join(names)} |",
        f"|---:|---:|---:|{'---:|' * len(names)}",
    ]
    for weeks, calls, (yardstick, *took) in rows:
        told = " | ".join(f"{1000 * one:.1f} ({one / yardstick:.1f} ×)" for one in took)
        lines.append(f"| {weeks} | {calls:,} | {1000 * yardstick:.1f} | {told} |")
    return "\n".join(lines)


def _aged(folder: Path, weeks: int) -> None:
    """Earlier weeks, each a copy of the one there is, as far as they are not there yet."""
    db = sqlite3.connect(folder / "tarnfell.sqlite", isolation_level=None)
    db.execute("PRAGMA synchronous = OFF")
    done = db.execute("SELECT (max(begun_us) - min(begun_us)) / ? FROM job", (WEEK_US,)).fetchone()[0]
    newest = db.execute("SELECT max(begun_us) FROM job WHERE kind = 'calls'").fetchone()[0] - WEEK_US
    first = {name: db.execute(f"SELECT min(id) FROM {name}").fetchone()[0] for name in set(_NUMBERED.values())}
    span = {
        name: (db.execute(f"SELECT max(id) FROM {name}").fetchone()[0] - first[name] + 1) // (done + 1)
        for name in first
    }
    for back in range(done + 1, weeks + 1):
        db.execute("BEGIN")
        for table in _TABLES:
            columns = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
            values = ", ".join(_shifted(table, column, back, span) for column in columns)
            own = _own(table, first, span, newest)
            db.execute(f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) SELECT {values} FROM {table} WHERE {own}")
        db.execute("COMMIT")
    db.close()


def _own(table: str, first: dict[str, int], span: dict[str, int], newest_us: int) -> str:
    """The rows of the week that is copied."""
    if table == "sample_cell":
        return f"start_us > {newest_us}"
    column = next((column for (name, column) in _LEADS if name == table), "id")
    of = _LEADS.get((table, column), _NUMBERED.get(table, ""))
    return f"{column} < {first[of] + span[of]}"


def _shifted(table: str, column: str, back: int, span: dict[str, int]) -> str:
    if of := _LEADS.get((table, column)) or (_NUMBERED.get(table) if column == "id" else None):
        return f"{column} + {back * span[of]}"
    if column in _TIMES:
        return f"{column} - {back * WEEK_US}"
    # A series is one afternoon's; its copies would be of the same.
    return "NULL" if column in ("series_id", "round") else column


def _asked(folder: Path) -> tuple[int, list[float]]:
    """Calls there are, and how long each question took, the yardstick first."""
    client = create_app(folder).test_client()
    client.post("/api/session", json={"email": USER_EMAIL, "password": PASSWORD})
    paths = (
        "/api/session", "/api/today", "/api/sites/skerry-road", "/api/sites/skerry-road/watch?days=7",
        "/api/sites/skerry-road/runs", "/api/sites/skerry-road/report.html",
    )  # fmt: skip
    db = connect(folder)
    loop.evaluate(db)
    calls = db.execute("SELECT count(*) FROM call").fetchone()[0]
    took = [_fastest(lambda path=path: client.get(path)) for path in paths]  # type: ignore[misc]
    clerk = _fastest(lambda: carry_out(db))
    db.close()
    return calls, [*took, clerk]


def _fastest(work: Callable[[], object]) -> float:
    found = []
    for _ in range(TRIES):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return min(found)
