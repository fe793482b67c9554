"""Simulated sites with a known fault, and what is said of them: the confusion table of docs/method.md.

``python -m benchmarks causes`` makes it: twenty weeks of each fault and a hundred quiet ones. Packets are simulated,
judged as any call's are, and read by the same diagnosis; nothing is told to it but the facts.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from tarnfell.core.causes import DIRECTIONS
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for, judge, worst_of
from tarnfell.core.trace import NOT_ARRIVED, Trace
from tarnfell.core.verdict.facts import Brief, CallFact
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tarnfell.demo.simulate import Moved, Stream, Way, move_packets

SEEDS, QUIET_SEEDS = 20, 100
DAYS = 7
CALL_S = 12
EVERY_MINUTES = 30
PTIME_MS = 20
CRITERION = criterion_for(find_codec("g711a"), PTIME_MS)
MONDAY = datetime(2026, 3, 2, tzinfo=UTC)
DETOUR = (timedelta(days=2, hours=12), timedelta(days=4, hours=12))

BRIEF = Brief(
    needed_calls=8, target_mos=4.0, required_share_pct=97, required_days=7, required_busy_hours=40,
    required_moments=122, max_delay_ms=200.0, max_loss_pct=1.0, max_variation_ms=60.0, min_stretch_mos=3.1,
    up_kbps=10_000, down_kbps=50_000, call_kbps=84.0,
)  # fmt: skip
QUIET = Way(rate_kbps=50_000, queue_ms=40, base_ms=14, jitter_ms=0.5, loss_pct=0.01, burst_rate=0.8)
SWAMPED = replace(QUIET, rate_kbps=10_000, queue_ms=350, burst_rate=1.2)


@dataclass(frozen=True)
class Fault:
    """What is wrong at a simulated site. Ways not named are quiet."""

    up: Way = QUIET
    down: Way = QUIET
    busy_load: float = 0.05
    """Chance of other traffic in business hours."""
    held: int = 0
    """Concurrent calls of a second run in each business hour; 0: none."""
    second_far_end: bool = False
    """Another far end, quiet, is called in the same moments."""
    silent: str = ""
    """Direction in which nothing arrives."""
    off: tuple[int, ...] = ()
    """Hours of the day in which no call can be placed."""
    drop_held_pct: float = 0.0
    """Packets dropped on upload while the held calls run, and only then."""
    marks: bool = True
    detour_ms: float = 0.0
    """Added each way from the third day's noon to the fifth day's."""
    plain_beside: bool = False
    """Unmarked calls are placed in the same minutes, and fare as the marked ones do."""
    wireless: bool = False
    """The calls are taken over Wi-Fi, and those of a second test point on the cable in the same moments are quiet."""


FAULTS: dict[str, Fault] = {
    "quiet": Fault(),
    "uplink-queue": Fault(up=SWAMPED, busy_load=0.5),
    "downlink-queue": Fault(down=SWAMPED, busy_load=0.5),
    "beyond-congested": Fault(up=SWAMPED, busy_load=0.5, second_far_end=True),
    "uplink-small": Fault(up=replace(QUIET, rate_kbps=600, queue_ms=300, burst_rate=0.1), held=8),
    "policed": Fault(held=8, drop_held_pct=8.0),
    "line-loss": Fault(up=replace(QUIET, loss_pct=4.0), down=replace(QUIET, loss_pct=4.0)),
    "delay-swings": Fault(up=replace(QUIET, jitter_ms=28.0), down=replace(QUIET, jitter_ms=28.0)),
    "far-away": Fault(up=replace(QUIET, base_ms=170.0), down=replace(QUIET, base_ms=170.0)),
    "one-way": Fault(silent="down"),
    "line-down": Fault(off=(10, 15)),
    "marking-changed": Fault(marks=False),
    "route-changed": Fault(detour_ms=150.0),
    "priority-ignored": Fault(up=SWAMPED, busy_load=0.5, plain_beside=True),
    "inside-radio": Fault(up=replace(QUIET, jitter_ms=28.0), down=replace(QUIET, jitter_ms=28.0), wireless=True),
}


def simulate(fault: Fault, seed: int, days: int = DAYS) -> list[CallFact]:
    """A week: a short call every half hour, day and night, and the fault's runs of several calls."""
    rng = np.random.default_rng([seed, 7])
    starts = [MONDAY + timedelta(minutes=EVERY_MINUTES * i + 2) for i in range(days * 24 * 60 // EVERY_MINUTES)]
    facts = _place(fault, starts, 1, rng, 1, 0)
    if fault.second_far_end:
        facts += _place(replace(fault, up=QUIET, down=QUIET), starts, 1, rng, 2, 1_000_000)
    if fault.plain_beside:
        same = np.random.default_rng([seed, 7])
        facts += [replace(f, dscp_sent=0) for f in _place(fault, starts, 1, same, 1, 3_000_000)]
    if fault.wireless:
        wired = _place(replace(fault, up=QUIET, down=QUIET), starts, 1, rng, 1, 4_000_000)
        facts = [replace(f, wireless=True) for f in facts] + [replace(f, probe_id=2) for f in wired]
    if fault.held:
        hours = [s + timedelta(minutes=15) for s in starts if _busy(s) and s.minute < EVERY_MINUTES]
        facts += _place(fault, hours, fault.held, rng, 1, 2_000_000)
    return facts


def _busy(at: datetime) -> bool:
    return at.isoweekday() < 6 and 8 <= at.hour < 18


def _place(
    fault: Fault, starts: list[datetime], calls: int, rng: np.random.Generator, far_end: int, first: int
) -> list[CallFact]:
    load = np.array([fault.busy_load if _busy(s) else 0.02 for s in starts])
    start_us = np.array([int(s.timestamp() * 1e6) for s in starts])
    stream = [(Stream.even(CALL_S * 1000 // PTIME_MS, PTIME_MS), calls)]
    moved: dict[str, Moved] = {}
    for direction, way in (("up", fault.up), ("down", fault.down)):
        (moved[direction],) = move_packets([(way, load)], start_us, stream, calls * (BRIEF.call_kbps or 0), rng)
    facts = []
    for n, start in enumerate(starts):
        for call in range(calls):
            row = n * calls + call
            for direction in DIRECTIONS:
                facts.append(_fact(fault, start, calls, far_end, first + row + 1, first + n + 1, direction,
                                   moved[direction], row, rng))  # fmt: skip
    return facts


def _fact(
    fault: Fault, start: datetime, calls: int, far_end: int, call_id: int, run_id: int, direction: Any, moved: Moved,
    row: int, rng: np.random.Generator,
) -> CallFact:  # fmt: skip
    arrived = moved.arrived[row].copy()
    if direction == fault.silent:
        arrived[:] = False
    if direction == "up" and calls > 1 and fault.drop_held_pct:
        arrived &= rng.random(len(arrived)) >= fault.drop_held_pct / 100
    base = CallFact(
        call_id=call_id, run_id=run_id, direction=direction, day=start.date().isoformat(),
        minute=start.hour * 60 + start.minute, seconds=CALL_S, busy=_busy(start), concurrent=calls, sent=0, received=0,
        loss_pct=None, late_pct=None, burst_ratio=1.0, mos=None, worst_stretch_mos=None, delay_p50_ms=None,
        mouth_to_ear_ms=None, pdv_p50_ms=None, pdv_p95_ms=None, pdv_p99_ms=None, jitter_ms=0.0, dscp_sent=46,
        dscp_kept_pct=None, tainted=False, probe_id=1, far_end_id=far_end,
    )  # fmt: skip
    if start.hour in fault.off:
        return replace(base, outcome="not placed", seconds=0.0, blame="site")
    away = DETOUR[0] <= start - MONDAY < DETOUR[1]
    recv_us = moved.recv_us[row] + (round(fault.detour_ms * 1000) if away else 0)
    trace = Trace(np.arange(len(arrived)), moved.sent_us[row], np.where(arrived, recv_us, NOT_ARRIVED))
    found = judge(trace, CRITERION)
    m = found.metrics
    return replace(
        base, sent=m.sent, received=m.received, loss_pct=m.loss_pct, late_pct=100 * found.late / m.sent,
        burst_ratio=m.burst_ratio, mos=found.mos,
        worst_stretch_mos=worst_of(trace, CRITERION).stretch_mos if m.received else None,
        delay_p50_ms=m.delay_p50_ms, mouth_to_ear_ms=found.mouth_to_ear_ms, pdv_p50_ms=m.pdv_p50_ms,
        pdv_p95_ms=m.pdv_p95_ms, pdv_p99_ms=m.pdv_p99_ms, jitter_ms=m.jitter_ms,
        dscp_kept_pct=(100.0 if fault.marks else 0.0) if m.received else None,
    )  # fmt: skip


def said_of(kind: str, seed: int, days: int = DAYS) -> Evaluation:
    return evaluate_site(simulate(FAULTS[kind], seed, days), BRIEF)


def report() -> str:
    """The table, with what was said first and what was said besides."""
    lines = [
        "## Causes named",
        "",
        f"Simulated weeks, {SEEDS} of each fault and {QUIET_SEEDS} quiet ones; a call every {EVERY_MINUTES} minutes.",
        "",
        "| what was wrong | weeks | costliest cause named | named besides |",
        "|---|---:|---|---|",
    ]
    for kind in FAULTS:
        first: Counter[str] = Counter()
        besides: Counter[str] = Counter()
        weeks = QUIET_SEEDS if kind == "quiet" else SEEDS
        for seed in range(weeks):
            keys = [c.key for c in said_of(kind, seed).faults]
            first[keys[0] if keys else "nothing"] += 1
            besides.update(set(keys[1:]))
        told = ", ".join(f"{key} {n}" for key, n in first.most_common())
        more = ", ".join(f"{key} {n}" for key, n in besides.most_common()) or "nothing"
        lines.append(f"| {kind} | {weeks} | {told} | {more} |")
    return "\n".join(lines)
