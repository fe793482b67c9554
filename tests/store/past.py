"""Runs and ten minutes of samples as they lie in the database, without the packets that they would have."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping

from tarnfell.store.cells import Cell

FIGURES = (
    "sent", "received", "lost", "loss_pct", "late", "duplicates", "reordered", "jitter_ms", "jitter_max_ms",
    "burst_ratio", "longest_loss_run", "effective_loss_pct", "ssrc", "dscp_sent", "dscp_received",
)  # fmt: skip
Ways = Mapping[str, float | None]
BOTH: Ways = {"up": 4.0, "down": 4.0}


def add_run(
    db: sqlite3.Connection,
    state: str,
    at_us: int,
    number: int = 2,
    judged_us: int | None = None,
    ways: Ways = BOTH,
    purpose: str = "placed",
    seconds: float = 30,
    apart_us: int = 0,
) -> int:
    """A run of ``number`` calls that ended in such a state, each with these directions and their MOS."""
    run = db.execute(
        "INSERT INTO job (site_id, probe_id, kind, state, created_us, begun_us, ended_us) "
        "VALUES (1, 1, 'calls', ?1, ?2, ?2, ?2 + 30000000)",
        (state, at_us),
    ).lastrowid
    assert run is not None
    db.execute(
        "INSERT INTO run (id, far_end_id, purpose, codec, ptime_ms, calls, seconds, dscp, judged_us) "
        "VALUES (?, 1, ?, 'g711a', 20, ?, ?, 46, ?)",
        (run, purpose, number, seconds, judged_us),
    )
    for one in range(number):
        call = db.execute(
            "INSERT INTO call (run_id, number, started_us, record) VALUES (?, ?, ?, x'')",
            (run, one, at_us + one * apart_us),
        ).lastrowid
        for way, mos in ways.items():
            db.execute(
                f"INSERT INTO direction (call_id, direction, {', '.join(FIGURES)}, mos) "
                f"VALUES (?, ?, {', '.join('0' * len(FIGURES))}, ?)",
                (call, way, mos),
            )
    return run


def cell(start_us: int, first_s: float = 0, last_s: float = 599, without_s: float = 0) -> Cell:
    """Ten minutes with samples from here to there."""
    first_us, last_us = (start_us + round(at * 1_000_000) for at in (first_s, last_s))
    return Cell(1, start_us, first_us, last_us, 500, 90, 9, round(without_s * 1_000_000), b"", b"", b"")
