"""How the clocks of a probe and a far end stood in the runs between them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

from tarnfell.core.clock import ClockRelation

if TYPE_CHECKING:
    from tarnfell.store.runs import Run

NEAR_US = 24 * 3600 * 1_000_000
"""Further apart, one run says little about another's clocks."""


@dataclass(frozen=True)
class PairRun:
    """A run between the same two ends."""

    id: int
    begun_us: int
    estimate: ClockRelation
    """From the run's own packets."""
    relation: ClockRelation
    """It was judged by."""


def to_text(relation: ClockRelation) -> str:
    return json.dumps(asdict(relation))


@lru_cache(maxsize=4096)
def from_text(text: str) -> ClockRelation:
    """Every run is judged with those of the day around it, so the same texts come again and again."""
    return ClockRelation(**json.loads(text))


def runs_of_pair(db: sqlite3.Connection, run: Run) -> list[PairRun]:
    """The judged runs of the same probe and far end within a day of ``run``, without it, oldest first."""
    begun = run.begun_us or run.created_us
    rows = db.execute(
        "SELECT id, begun_us, clock_estimate, clock_relation FROM run_job WHERE probe_id = ? AND far_end_id = ? "
        "AND id <> ? AND begun_us BETWEEN ? AND ? AND clock_estimate IS NOT NULL AND tainted = 0 ORDER BY begun_us",
        (run.probe_id, run.far_end_id, run.id, begun - NEAR_US, begun + NEAR_US),
    )
    return [PairRun(row[0], row[1], from_text(row[2]), from_text(row[3])) for row in rows]


def keep(db: sqlite3.Connection, run_id: int, estimate: ClockRelation, relation: ClockRelation) -> None:
    db.execute(
        "UPDATE run SET clock_estimate = ?, clock_relation = ? WHERE id = ?",
        (to_text(estimate), to_text(relation), run_id),
    )


def relation_of_run(db: sqlite3.Connection, run_id: int) -> ClockRelation | None:
    """What the run was judged by; None before it was."""
    row = db.execute("SELECT clock_relation FROM run WHERE id = ?", (run_id,)).fetchone()
    return from_text(row[0]) if row and row[0] else None


def judge_again(db: sqlite3.Connection, run_ids: Iterable[int]) -> None:
    """These runs' clocks are known better now."""
    db.executemany("UPDATE run SET stale = 1 WHERE id = ?", [(run_id,) for run_id in run_ids])
