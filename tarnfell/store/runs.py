"""Runs of calls: what was to be placed, and what came of it. Their life is that of a job (store/jobs.py)."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import asdict, dataclass, fields

from tarnfell.core.codecs import codec_table
from tarnfell.core.rates import Flow, VideoLoad
from tarnfell.store import jobs
from tarnfell.store.jobs import State, StopReason
from tarnfell.store.loads import loads_from_json, loads_to_json
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds.selfcheck import SelfCheck, self_check_of


@dataclass(frozen=True)
class RunSpec:
    """Calls to be placed: from where to where, what, for which series. Fields are columns of ``run`` and its job."""

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
    asked_by: int | None
    created_us: int
    taken_us: int | None
    """When a probe last took it; None where none did."""
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


_RUN = f"SELECT {', '.join(f.name for f in fields(Run))} FROM run_job"


def self_check(kept: str | None) -> SelfCheck | None:
    """What the ends of a run saw of themselves; None of one that tells nothing."""
    return self_check_of(json.loads(kept)) if kept else None


def _run(row: sqlite3.Row) -> Run:
    values = dict(row)
    return Run(**values | {"video": loads_from_json(values["video"])})


_OF_THE_JOB = ("site_id", "probe_id", "asked_by")


def add_run(db: sqlite3.Connection, spec: RunSpec, words: str, at_us: int | None = None) -> Run:
    """A run that waits for its probe; ``words`` are the first line of its log."""
    number = jobs.add(db, spec.site_id, spec.probe_id, "calls", words, spec.asked_by, at_us=at_us)
    values = {name: value for name, value in asdict(spec).items() if name not in _OF_THE_JOB}
    values |= {"id": number, "video": loads_to_json(spec.video)}
    db.execute(f"INSERT INTO run ({', '.join(values)}) VALUES ({', '.join(f':{name}' for name in values)})", values)
    return run_by_id(db, number)


def run_by_id(db: sqlite3.Connection, run_id: int) -> Run:
    """Raises KeyError."""
    row = db.execute(f"{_RUN} WHERE id = ?", (run_id,)).fetchone()
    if row is None:
        raise KeyError(run_id)
    return _run(row)


def keep_cut(db: sqlite3.Connection, run_id: int, cut: Failure) -> None:
    """What broke the run off. Its state is moved apart."""
    jobs.keep_failure(db, run_id, cut)
    db.execute("UPDATE run SET cut_reason = ?, cut_after_s = ? WHERE id = ?", (cut.reason, cut.after_s, run_id))


COUNTS = (
    "(SELECT probe.kind = 'program' OR site.browser_counts FROM probe JOIN site ON site.id = probe.site_id "
    "WHERE probe.id = r.probe_id) "
    "AND NOT EXISTS (SELECT 1 FROM browser_reach b WHERE b.job_id = r.id AND b.way <> 'straight')"
)
"""Of a run ``r``: a browser's are evidence where that was allowed for the site, and never those through a relay or over
a WebSocket: what TCP sends again, and the way by the relay, are not what calls of the site would have."""


def failed_runs(db: sqlite3.Connection, site_id: int) -> list[Run]:
    """Those that may be evidence, in the order of time."""
    rows = db.execute(
        f"{_RUN} r WHERE site_id = ? AND state = 'failed' AND {COUNTS} ORDER BY created_us, id", (site_id,)
    )
    return [_run(row) for row in rows]


@dataclass(frozen=True)
class Settings:
    """Runs that were placed alike."""

    probe: str
    far_end: str
    calls: int
    codec: str
    ptime_ms: int
    seconds: float
    dscp: int
    direction: Flow
    with_video: bool
    runs: int
    first_us: int
    last_us: int


def settings_of(db: sqlite3.Connection, site_id: int) -> list[Settings]:
    """Of all runs that were carried out, those placed most often first."""
    rows = db.execute(
        "SELECT probe.name, far_end.name, r.calls, r.codec, r.ptime_ms, r.seconds, r.dscp, r.direction, "
        "r.video <> '[]', count(*), min(coalesce(r.begun_us, r.created_us)), max(coalesce(r.begun_us, r.created_us)) "
        "FROM run_job r JOIN probe ON probe.id = r.probe_id JOIN far_end ON far_end.id = r.far_end_id "
        "WHERE r.site_id = ? AND r.state = 'done' GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9 ORDER BY 10 DESC, 3, 1, 2, 6",
        (site_id,),
    )
    return [Settings(*(*row[:8], bool(row[8]), *row[9:])) for row in rows]


def open_runs(db: sqlite3.Connection, site_id: int) -> list[Run]:
    """Those that wait or are under way, oldest first."""
    rows = db.execute(f"{_RUN} WHERE site_id = ? AND state IN ('waiting', 'taken', 'running') ORDER BY id", (site_id,))
    return [_run(row) for row in rows]


_PLACED = (
    "site_id = ?1 AND placed = 1 AND (?2 = '' OR instr(lower(name || ' ' || note || ' ' || codec || ' ' || "
    "state || ' ' || coalesce(failure, '')), lower(?2)) > 0 OR codec IN (SELECT value FROM json_each(?3)))"
)


def placed_runs(db: sqlite3.Connection, site_id: int, limit: int, offset: int = 0, words: str = "") -> list[Run]:
    """Runs somebody asked for, newest first; those of which name, note, codec, state or failure holds ``words``.

    A codec is found by its title as well as by the table's name for it.
    """
    rows = db.execute(
        f"{_RUN} WHERE {_PLACED} ORDER BY created_us DESC LIMIT ?4 OFFSET ?5",
        (site_id, words, _codecs_titled(words), limit, offset),
    )
    return [_run(row) for row in rows]


def _codecs_titled(words: str) -> str:
    """As JSON: the table has their names, people know their titles."""
    return json.dumps([one.name for one in codec_table().values() if words.lower() in one.title.lower()])


def describe(db: sqlite3.Connection, run_id: int, name: str, note: str) -> None:
    """Give a run the name people call it by, and what they note of it."""
    db.execute("UPDATE run SET name = ?, note = ? WHERE id = ?", (name, note, run_id))


def count_placed(db: sqlite3.Connection, site_id: int, words: str = "") -> int:
    row = db.execute(
        f"SELECT count(*) FROM run_job WHERE {_PLACED}", (site_id, words, _codecs_titled(words))
    ).fetchone()
    return int(row[0])


def judged_us(db: sqlite3.Connection, run_id: int) -> int:
    """When it was judged last; 0 for one that has not been."""
    return int(db.execute("SELECT coalesce(judged_us, 0) FROM run WHERE id = ?", (run_id,)).fetchone()[0])


def runs_of_series(db: sqlite3.Connection, series_id: int) -> list[Run]:
    """In the order they were placed."""
    return [_run(row) for row in db.execute(f"{_RUN} WHERE series_id = ? ORDER BY id", (series_id,))]
