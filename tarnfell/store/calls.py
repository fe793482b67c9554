"""Calls: the raw packet record beside what it was judged to be. ``take_in`` is the one way in."""

from __future__ import annotations

import json
import sqlite3
import statistics
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, field
from typing import NamedTuple

from tarnfell.core.causes import Direction
from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import Codec
from tarnfell.core.directions import DirectionFigures, PictureFigures
from tarnfell.store import clocks, jobs, runs
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import now_us
from tarnfell.store.figures import assignments, columns, figures_of, marks, values
from tarnfell.store.runs import COUNTS, Run
from tarnfell.store.videos import JudgedVideo, add_video, replace_pictures
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds.selfcheck import SelfCheck
from tarnfell.wire.record import Record

MAX_UPLOAD_BYTES = 256 << 20


@dataclass(frozen=True)
class JudgedCall:
    number: int
    started_us: int
    record: bytes
    directions: dict[str, DirectionFigures]


@dataclass(frozen=True)
class JudgedRun:
    """An upload, read and judged, ready to be written."""

    sha256: str
    clock_record: bytes
    self_check: SelfCheck
    stopped: bool
    calls: list[JudgedCall]
    video: list[JudgedVideo]
    codec: Codec
    """By whose values the calls were judged."""
    estimate: ClockRelation
    """How the clocks stood by the run's own packets."""
    relation: ClockRelation
    """What it was judged by: the same, put right by other runs of the two ends where they know better."""
    puts_right: list[int] = field(default_factory=list)
    """Earlier runs of the two ends that are to be judged again, now that their clocks are known better."""
    cut: Failure | None = None
    """Where the run was broken off by what it was to measure, and only the probe's half is there."""


def take_in(db: sqlite3.Connection, run: Run, judged: JudgedRun, at_us: int | None = None) -> None:
    """Write a judged run and end it, inside the caller's transaction. A second time changes nothing."""
    if run.state == "done":
        return
    for call in judged.calls:
        cursor = db.execute(
            "INSERT INTO call (run_id, number, started_us, record) VALUES (?, ?, ?, ?)",
            (run.id, call.number, call.started_us, call.record),
        )
        for direction, found in call.directions.items():
            db.execute(
                f"INSERT INTO direction (call_id, direction, {columns(DirectionFigures)}) "
                f"VALUES (?, ?, {marks(DirectionFigures)})",
                (cursor.lastrowid, direction, *values(found)),
            )
    for stream in judged.video:
        add_video(db, run.id, stream)
    db.execute(
        "UPDATE run SET clock_record = ?, self_check = ?, record_sha256 = ?, tainted = ?, judged_us = ?, stale = ? "
        "WHERE id = ?",
        (
            judged.clock_record,
            json.dumps(asdict(judged.self_check)),
            judged.sha256,
            int(judged.self_check.tainted),
            now_us(),
            # The values may have been changed while this was being judged.
            int(judged.codec != codec_of_site(db, run.site_id, run.codec)),
            run.id,
        ),
    )
    clocks.keep(db, run.id, judged.estimate, judged.relation)
    clocks.judge_again(db, judged.puts_right)
    words = "Stopped early; what was measured is kept." if judged.stopped else "Measured and judged."
    if judged.cut:
        words = f"Cut: {judged.cut.reason}"
        runs.keep_cut(db, run.id, judged.cut)
    jobs.move(db, run.id, "done", words, at_us)


@dataclass(frozen=True)
class JudgedAgain:
    """A run whose packets were judged anew; ``calls`` and ``pictures`` by the ids of call and video stream."""

    codec: Codec
    estimate: ClockRelation
    relation: ClockRelation
    calls: dict[int, dict[str, DirectionFigures]]
    pictures: dict[int, dict[str, PictureFigures]]


def replace_figures(db: sqlite3.Connection, run: Run, fresh: JudgedAgain) -> None:
    """Write what ``judge_again`` found, unless the values have changed again since."""
    if fresh.codec != codec_of_site(db, run.site_id, run.codec):
        return
    for call_id, directions in fresh.calls.items():
        for direction, found in directions.items():
            db.execute(
                f"UPDATE direction SET {assignments(DirectionFigures)} WHERE call_id = ? AND direction = ?",
                (*values(found), call_id, direction),
            )
    replace_pictures(db, fresh.pictures)
    clocks.keep(db, run.id, fresh.estimate, fresh.relation)
    db.execute("UPDATE run SET stale = 0, judged_us = ? WHERE id = ?", (now_us(), run.id))


_FIGURES = columns(DirectionFigures, "d.")


@dataclass(frozen=True)
class StoredDirection:
    """One direction of a call as it was judged."""

    call_id: int
    run_id: int
    number: int
    """Of the call in its run."""
    started_us: int
    cut: bool
    """Its run was broken off by what it was to measure."""
    direction: Direction
    figures: DirectionFigures


_OF_STORED = f"SELECT c.id, c.run_id, c.number, c.started_us, r.cut_reason IS NOT NULL, d.direction, {_FIGURES} "
_STORED = f"{_OF_STORED} FROM run_job r JOIN call c ON c.run_id = r.id JOIN direction d ON d.call_id = c.id"


def directions_of_run(db: sqlite3.Connection, run_id: int) -> list[StoredDirection]:
    """In the order of the calls' numbers, up before down."""
    return _stored(db.execute(f"{_STORED} WHERE r.id = ? ORDER BY c.number, d.direction DESC", (run_id,)))


def newest_directions(
    db: sqlite3.Connection, site_id: int, codec: str, direction: str, limit: int
) -> list[StoredDirection]:
    """One direction of the calls of the site's newest runs by one codec that are to be trusted, newest first."""
    return _stored(
        db.execute(
            # From the newest run back until there are enough: a quarter's calls are not sorted for two hundred.
            f"{_OF_STORED} FROM job j CROSS JOIN run r ON r.id = j.id CROSS JOIN call c ON c.run_id = r.id "
            "CROSS JOIN direction d ON d.call_id = c.id "
            "WHERE j.site_id = ? AND j.started_us IS NOT NULL AND r.codec = ? AND d.direction = ? "
            "AND r.tainted = 0 AND r.cut_reason IS NULL ORDER BY j.started_us DESC, c.started_us DESC LIMIT ?",
            (site_id, codec, direction, limit),
        )
    )


def _stored(rows: Iterable[sqlite3.Row]) -> list[StoredDirection]:
    return [
        StoredDirection(row[0], row[1], row[2], row[3], bool(row[4]), row[5], figures_of(row, DirectionFigures))
        for row in rows
    ]


def directions_of_site(db: sqlite3.Connection, site_id: int) -> Iterator[sqlite3.Row]:
    """A row for each direction of each call that is evidence of the site, in the order of time."""
    return db.execute(
        f"SELECT c.id AS call_id, c.run_id, c.started_us, r.calls, r.tainted, r.direction AS flow, r.probe_id, "
        "r.far_end_id, r.codec, r.ptime_ms, r.seconds, r.self_check, r.cut_reason, r.cut_after_s, r.server_reachable, "
        f"r.medium, d.direction, {_FIGURES} "
        "FROM run_job r JOIN call c ON c.run_id = r.id JOIN direction d ON d.call_id = c.id "
        f"WHERE r.site_id = ? AND {COUNTS} ORDER BY c.started_us, c.id",
        (site_id,),
    )


def marking_of_site(
    db: sqlite3.Connection, site_id: int, since_us: int
) -> list[tuple[Direction, int, int, int, float]]:
    """Of calls since then that are evidence of the site and of which a marking was seen on arrival: direction, DSCP
    sent, how many, of how many every packet kept it, and the mean percentage of packets that did."""
    rows = db.execute(
        "SELECT d.direction, d.dscp_sent, count(*), sum(d.dscp_kept_pct >= 100), avg(d.dscp_kept_pct) "
        "FROM run_job r JOIN call c ON c.run_id = r.id JOIN direction d ON d.call_id = c.id "
        f"WHERE r.site_id = ? AND {COUNTS} AND c.started_us >= ? AND d.dscp_kept_pct IS NOT NULL "
        "GROUP BY d.direction, d.dscp_sent",
        (site_id, since_us),
    )
    return [(row[0], row[1], row[2], row[3], row[4]) for row in rows]


class Bounded(NamedTuple):
    """What bounds of a brief look at, of one direction of a call."""

    call_id: int
    started_us: int
    cut: bool
    mos: float | None
    mouth_to_ear_ms: float | None
    loss_pct: float
    pdv_p99_ms: float | None
    worst_stretch_mos: float | None


def bounded_of_run(db: sqlite3.Connection, run_id: int) -> list[Bounded]:
    """In the order of the calls' numbers."""
    rows = db.execute(
        "SELECT c.id, c.started_us, r.cut_reason IS NOT NULL, d.mos, d.mouth_to_ear_ms, d.loss_pct, d.pdv_p99_ms, "
        "d.worst_stretch_mos FROM run r JOIN call c ON c.run_id = r.id JOIN direction d ON d.call_id = c.id "
        "WHERE r.id = ? ORDER BY c.number",
        (run_id,),
    )
    return [Bounded(*row) for row in rows]


def sent_in(db: sqlite3.Connection, call_id: int, direction: str) -> int:
    """Packets that were sent in one direction of a call; 0 where nothing was to flow."""
    row = db.execute("SELECT sent FROM direction WHERE call_id = ? AND direction = ?", (call_id, direction)).fetchone()
    return int(row[0]) if row else 0


@dataclass(frozen=True)
class StoredCall:
    id: int
    run_id: int
    number: int
    started_us: int
    record: Record
    clock: Record
    relation: ClockRelation | None
    """The run was judged by; None where it waits to be judged again."""


def calls_of_run(db: sqlite3.Connection, run_id: int) -> list[StoredCall]:
    """In the order of their numbers."""
    rows = db.execute("SELECT id FROM call WHERE run_id = ? ORDER BY number", (run_id,)).fetchall()
    return [call_by_id(db, row[0]) for row in rows]


@dataclass(frozen=True)
class CallThen:
    """A call of some time, as it stands beside other evidence. A direction that was not asked for has no MOS."""

    call_id: int
    run_id: int
    started_us: int
    seconds: float
    up_mos: float | None
    down_mos: float | None

    @property
    def worst_mos(self) -> float:
        return min(mos for mos in (self.up_mos, self.down_mos) if mos is not None)


LONGEST_US = 5 * 3600 * 1_000_000
"""No call is on longer: it lasts four hours at most (core/rates.py)."""
NOTHING_HEARD = 1.0
"""MOS of a direction that has none: nothing of it was heard (also in store/schema/057_call_mos.sql)."""


_THEN = (
    "call_mos m WHERE m.site_id = ?1 AND m.started_us < ?3 AND m.started_us > ?2 - ?4 AND m.ends_us > ?2 "
    # As a list, which is made once: looked for by each call's run it takes as long as all else.
    "AND m.run_id NOT IN (SELECT id FROM run WHERE tainted = 1)"
)


def calls_between(db: sqlite3.Connection, site_id: int, from_us: int, until_us: int) -> list[CallThen]:
    """That were on in this time, of runs that are to be trusted; in the order of time."""
    rows = db.execute(
        "SELECT m.call_id, m.run_id, m.started_us, (SELECT seconds FROM run WHERE run.id = m.run_id), m.up, m.down "
        f"FROM {_THEN} ORDER BY m.started_us, m.call_id",
        (site_id, from_us, until_us, LONGEST_US),
    )
    return [CallThen(*row) for row in rows]


def worst_between(
    db: sqlite3.Connection, site_id: int, from_us: int, until_us: int, slices: int
) -> list[tuple[CallThen, int]]:
    """As ``calls_between``: of each of so many slices of the time the call with the lowest MOS in either direction, and
    how many began in it; those that were on before count in the first."""
    rows = db.execute(
        # Beside one min() SQLite tells of the row that has it.
        "SELECT call_id, run_id, started_us, (SELECT seconds FROM run WHERE run.id = run_id), up, down, among FROM ("
        "SELECT *, count(*) AS among, min(min(coalesce(up, down), coalesce(down, up))) "
        f"FROM {_THEN} GROUP BY (max(started_us, ?2) - ?2) * ?5 / (?3 - ?2)) ORDER BY started_us",
        (site_id, from_us, until_us, LONGEST_US, slices),
    )
    return [(CallThen(*row[:6]), row[6]) for row in rows]


@dataclass(frozen=True)
class KeptTest:
    """A run as one test: the median MOS of its calls in the direction that had the lower."""

    run_id: int
    probe_id: int
    at_us: int
    mos: float


def tests_since(db: sqlite3.Connection, site_id: int, from_us: int, least: int) -> list[KeptTest]:
    """Runs that are to be trusted of those that ended since then, and of the newest so many; in the order of time."""
    by_run: dict[tuple[int, int, int], dict[str, list[float]]] = {}
    for run_id, probe_id, at_us, way, mos in db.execute(
        "WITH few AS (SELECT id FROM job WHERE site_id = ?1 AND kind = 'calls' AND state = 'done' AND ended_us >= ?2 "
        "UNION SELECT * FROM (SELECT id FROM job WHERE site_id = ?1 AND kind = 'calls' AND state = 'done' "
        "ORDER BY id DESC LIMIT ?3)), "
        "own AS (SELECT r.id, r.probe_id, min(c.started_us) AS began_us FROM few JOIN run_job r ON r.id = few.id "
        f"JOIN call c ON c.run_id = r.id WHERE r.tainted = 0 AND {COUNTS} GROUP BY r.id) "
        "SELECT own.id, own.probe_id, own.began_us, d.direction, d.mos FROM own JOIN call c ON c.run_id = own.id "
        "JOIN direction d ON d.call_id = c.id ORDER BY own.began_us, own.id",
        (site_id, from_us, least),
    ):
        by_run.setdefault((run_id, probe_id, at_us), {}).setdefault(way, []).append(
            NOTHING_HEARD if mos is None else mos
        )
    return [
        KeptTest(*run, mos=min(statistics.median(all_) for all_ in by_way.values())) for run, by_way in by_run.items()
    ]


def neighbours(db: sqlite3.Connection, call: StoredCall) -> tuple[int | None, int | None]:
    """The calls before and after it in its run, by number."""
    before, after = (
        db.execute(
            f"SELECT id FROM call WHERE run_id = ? AND number {sign} ? ORDER BY number {order} LIMIT 1",
            (call.run_id, call.number),
        ).fetchone()
        for sign, order in (("<", "DESC"), (">", "ASC"))
    )
    return (before[0] if before else None, after[0] if after else None)


def call_by_id(db: sqlite3.Connection, call_id: int) -> StoredCall:
    """Raises KeyError."""
    row = db.execute(
        "SELECT c.id, c.run_id, c.number, c.started_us, c.record, r.clock_record, r.clock_relation FROM call c "
        "JOIN run r ON r.id = c.run_id WHERE c.id = ?",
        (call_id,),
    ).fetchone()
    if row is None:
        raise KeyError(call_id)
    relation = clocks.from_text(row[6]) if row[6] else None
    return StoredCall(row[0], row[1], row[2], row[3], Record.parse(row[4]), Record.parse(row[5]), relation)
