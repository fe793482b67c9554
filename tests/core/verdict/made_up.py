"""Facts made up for the tests of judging: a week at a site, with what is wrong in it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import count
from typing import Any

from tarnfell.core.causes import Direction
from tarnfell.core.verdict.facts import Brief, CallFact, VideoFact
from tarnfell.core.verdict.site import Evaluation, evaluate_site

BRIEF = Brief(
    needed_calls=4,
    target_mos=4.0,
    required_share_pct=97,
    required_days=5,
    required_busy_hours=20,
    required_moments=122,
    max_delay_ms=200.0,
    max_loss_pct=1.0,
    max_variation_ms=60.0,
    min_stretch_mos=3.1,
    line_by="Coastline Cable",
    switches_by="Merrow IT",
    firewall_by="Wall & Sons",
    call_kbps=84.0,
    up_kbps=2000,
    down_kbps=8000,
)
DAYS = tuple(f"2026-11-{day}" for day in (16, 17, 18, 19, 20, 23, 24))

QUEUE = {
    "mos": 2.1, "worst_stretch_mos": 1.2, "delay_p50_ms": 300.0, "pdv_p50_ms": 60.0, "pdv_p95_ms": 120.0,
    "pdv_p99_ms": 140.0, "late_pct": 30.0, "mouth_to_ear_ms": 120.0,
}  # fmt: skip
LOSS = {"mos": 3.0, "worst_stretch_mos": 2.0, "loss_pct": 6.0, "received": 470, "burst_ratio": 2.5}
SCATTER = {
    "mos": 3.4, "worst_stretch_mos": 2.9, "late_pct": 9.0, "pdv_p50_ms": 19.0, "pdv_p95_ms": 75.0, "pdv_p99_ms": 110.0,
    "jitter_ms": 23.0,
}  # fmt: skip
SILENT: dict[str, Any] = {
    "mos": None, "worst_stretch_mos": None, "received": 0, "loss_pct": 100.0, "delay_p50_ms": None, "pdv_p50_ms": None,
    "pdv_p95_ms": None, "pdv_p99_ms": None, "mouth_to_ear_ms": None, "dscp_kept_pct": None,
}  # fmt: skip
NEVER_BEGAN = {**SILENT, "sent": 0, "loss_pct": None, "late_pct": None}
FAR = {"mos": 3.5, "worst_stretch_mos": 3.5, "delay_p50_ms": 290.0, "mouth_to_ear_ms": 371.0}
UNKNOWN_DELAY = {"delay_p50_ms": None, "mouth_to_ear_ms": None}
NOT_PLACED = {**NEVER_BEGAN, "outcome": "not placed", "reason": "cannot be reached on TCP 4870", "seconds": 0.0}

FIRST_NUMBER = 700_000_001
"""Of runs and calls: told apart from all other figures (``tests/told.py``)."""
_numbers = count(FIRST_NUMBER)


def fact(direction: Direction = "up", **changes: Any) -> CallFact:
    good = CallFact(
        call_id=1, run_id=1, direction=direction, day=DAYS[0], minute=600.0, seconds=30.0, busy=True, concurrent=1,
        sent=1500, received=1500, loss_pct=0.0, late_pct=0.0, burst_ratio=1.0, mos=4.36, worst_stretch_mos=4.36,
        delay_p50_ms=20.0, mouth_to_ear_ms=100.0, pdv_p50_ms=0.5, pdv_p95_ms=2.0, pdv_p99_ms=3.0, jitter_ms=0.4,
        dscp_sent=46, dscp_kept_pct=100.0, tainted=False, probe_id=1, far_end_id=1,
    )  # fmt: skip
    return replace(good, **changes)


Cell = tuple[str, float]
"""Day and minute at the site."""


def cells(days: Sequence[str] = DAYS[:5], hours: Iterable[float] = range(8, 18), every: int = 10) -> list[Cell]:
    return [(day, hour * 60.0 + minute) for day in days for hour in hours for minute in range(0, 60, every)]


def run(at: Cell, calls: int = 1, up: dict | None = None, down: dict | None = None, **both: Any) -> list[CallFact]:
    """One run of ``calls`` concurrent calls; a name given for a direction counts for that one alone."""
    day, minute = at
    both = {"busy": 480 <= minute < 1080, **both}
    number = next(_numbers)
    shared = {"run_id": number, "day": day, "minute": minute, "concurrent": calls, **both}
    found = []
    for _ in range(calls):
        call = next(_numbers)
        found.append(fact("up", **{**shared, "call_id": call, **(up or {})}))
        found.append(fact("down", **{**shared, "call_id": call, **(down or {})}))
    return found


def runs(at: Iterable[Cell], calls: int = 1, **changes: Any) -> list[CallFact]:
    return [f for cell in at for f in run(cell, calls, **changes)]


def week(**changes: Any) -> list[CallFact]:
    """A call in every ten minutes of business hours on five days: 300 moments."""
    return runs(cells(), **changes)


def held(calls: int = 4, moments: int = 150, **changes: Any) -> list[CallFact]:
    return runs(cells()[::2][:moments], calls, **changes)


def stream(number: int, at: Cell, direction: Direction, **changes: Any) -> VideoFact:
    good = VideoFact(
        stream_id=number, run_id=number, direction=direction, day=at[0], minute=at[1], seconds=30.0, busy=True,
        frames=900, whole=900, lost=0, late=0, freezes=0, frozen_ms=0.0, worst_second_fps=30, score=5.0, tainted=False,
    )  # fmt: skip
    return replace(good, **changes)


def judged(facts: list[CallFact], brief: Brief = BRIEF, video: Sequence[VideoFact] = ()) -> Evaluation:
    return evaluate_site(facts, brief, video)


def states(evaluation: Evaluation) -> dict[str, str]:
    return {r.key: r.state for r in evaluation.verdict.requirements}
