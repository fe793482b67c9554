"""The calls that a site's verdict rests on, as CSV: a row a direction, with what it counted as."""

from __future__ import annotations

import csv
import io
import sqlite3
from collections.abc import Callable
from typing import Any

from tarnfell.core.verdict.facts import MIN_CALL_S, CallFact
from tarnfell.core.verdict.readings import Reading, countable, read
from tarnfell.exchange.cells import guarded
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import EVALUATIONS
from tarnfell.work.evidence.facts import facts_of

OF_FACT: dict[str, Callable[[CallFact], Any]] = {
    "run": lambda f: f.run_id,
    "call": lambda f: f.call_id,
    "direction": lambda f: f.direction,
    "day": lambda f: f.day,
    "time": lambda f: _clock(f.minute),
    "business_hours": lambda f: _yes(f.busy),
    "concurrent_calls": lambda f: f.concurrent,
    "seconds": lambda f: round(f.seconds, 3),
    "outcome": lambda f: f.outcome,
    "reason": lambda f: f.reason,
    "packets_sent": lambda f: f.sent,
    "packets_received": lambda f: f.received,
    "loss_pct": lambda f: f.loss_pct,
    "late_pct": lambda f: f.late_pct,
    "burst_ratio": lambda f: f.burst_ratio,
    "mos": lambda f: f.mos,
    "mos_worst_ten_seconds": lambda f: f.worst_stretch_mos,
    "one_way_delay_median_ms": lambda f: f.delay_p50_ms,
    "mouth_to_ear_ms": lambda f: f.mouth_to_ear_ms,
    "pdv_median_ms": lambda f: f.pdv_p50_ms,
    "pdv_p95_ms": lambda f: f.pdv_p95_ms,
    "pdv_p99_ms": lambda f: f.pdv_p99_ms,
    "jitter_ms": lambda f: f.jitter_ms,
    "dscp_sent": lambda f: f.dscp_sent,
    "dscp_kept_pct": lambda f: f.dscp_kept_pct,
}
COLUMNS = (*OF_FACT, "counts", "within_bounds", "bounds_missed", "bounds_open")
"""``counts`` is *yes*, or why it does not. ``within_bounds`` is of this direction; *open*: a bound cannot be told."""


def data_set_mark(db: sqlite3.Connection, site: Site) -> str:
    """Differs whenever the table would."""
    return EVALUATIONS.mark(db, site)


def data_set(db: sqlite3.Connection, site: Site) -> bytes:
    """In the order of time. Calls set aside by a remedy, and imported ones, are not in it."""
    facts = facts_of(db, site).calls
    readings = {(r.fact.call_id, r.fact.direction): r for r in read(facts, site.brief)}
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(COLUMNS)
    for fact in sorted(facts, key=lambda f: (f.day, f.minute, f.run_id, f.call_id, f.direction)):
        reading = readings.get((fact.call_id, fact.direction))
        table.writerow([_cell(of(fact)) for of in OF_FACT.values()] + _judged(fact, reading))
    return text.getvalue().encode()


def _judged(fact: CallFact, reading: Reading | None) -> list[str]:
    if reading is None or not countable(fact):
        return [_why_not(fact), "", "", ""]
    counts = "in this direction alone" if fact.one_way else "yes"
    within = {True: "yes", False: "no", None: "open"}[reading.good]
    return [counts, within, " ".join(reading.missed), " ".join(reading.open)]


def _why_not(fact: CallFact) -> str:
    if fact.clock_set:
        return "no: a clock was set during the run"
    if fact.tainted:
        return "no: spoiled by an end’s own machine"
    return f"no: shorter than {MIN_CALL_S:g} s"


def _clock(minute: float) -> str:
    seconds = int(minute * 60)
    return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"


def _yes(value: bool) -> str:
    return "yes" if value else "no"


def _cell(value: Any) -> Any:
    """Empty: not known."""
    return "" if value is None else guarded(value) if isinstance(value, str) else value
