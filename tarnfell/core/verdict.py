"""The readiness score, 0 to 100, and the verdict: from readings and brief, every lost point named.

docs/method.md prints the same breakpoints. A dimension without evidence is
not guessed: its weight is left out and the verdict stays provisional.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.evidence import Brief, CallReading, Reading, VideoFact, by_call, good_streams
from tarnfell.core.findings import Dimension, Finding
from tarnfell.core.staircase import staircase
from tarnfell.core.stats import Share, wilson

Word = Literal["ready", "ready with conditions", "not ready", "no evidence"]

WEIGHTS: dict[Dimension, int] = {
    "voice": 30,
    "capacity": 20,
    "steadiness": 20,
    "load": 15,
    "reachability": 10,
    "marking": 5,
}
WEIGHTS_WITH_VIDEO: dict[Dimension, int] = {
    "voice": 20,
    "video": 15,
    "capacity": 20,
    "steadiness": 15,
    "load": 15,
    "reachability": 10,
    "marking": 5,
}
"""Where the brief holds video."""
TITLES: dict[Dimension, str] = {
    "voice": "Voice quality",
    "video": "Video",
    "capacity": "Capacity",
    "steadiness": "Steadiness over days",
    "load": "Behaviour under load",
    "reachability": "Reachability",
    "marking": "Marking",
}
NOT_READY_CAP = 49
CONDITIONS_CAP = 79
CONDITION_BELOW = 60.0
CELL_MINUTES = 10

# Breakpoints: (measured value, points out of 100), straight lines between, flat outside.
VOICE_SHORTFALL = ((0.0, 100.0), (2.0, 60.0), (20.0, 0.0))
"""Points by which the share of acceptable calls, or of good video streams, misses the required share."""
CAPACITY_SHARE = ((0.0, 0.0), (0.8, 60.0), (1.0, 100.0))
"""Sustained calls over needed calls."""
TROUBLED_CELLS_PCT = ((0.0, 100.0), (0.5, 95.0), (5.0, 60.0), (30.0, 0.0))
"""Ten-minute cells with an unacceptable call."""
SILENT_CALLS_PCT = ((0.0, 100.0), (2.0, 60.0), (10.0, 0.0))
MARKING_KEPT_PCT = ((50.0, 0.0), (90.0, 60.0), (99.0, 100.0))


@dataclass(frozen=True)
class DimensionScore:
    dimension: Dimension
    title: str
    weight: int
    score: float | None
    """0…100; None where nothing was measured."""
    says: str
    lost_points: float
    """Of the site's score, before any cap."""
    taken_by: str | None
    """Key of the finding that took them."""


@dataclass(frozen=True)
class Verdict:
    word: Word
    provisional: bool
    score: int | None
    uncapped: float | None
    reasons: tuple[str, ...]
    """Why the word is what it is, gates first."""
    missing: tuple[str, ...]
    """What evidence is short; non-empty means provisional."""
    dimensions: tuple[DimensionScore, ...]
    share: Share
    sustained_calls: int | None
    days: int
    busy_hours: int
    calls: int


def judge_site(
    readings: list[Reading], findings: list[Finding], brief: Brief, video: Sequence[VideoFact] = ()
) -> Verdict:
    """Score and verdict of a site on all its readings."""
    weights = WEIGHTS_WITH_VIDEO if brief.video else WEIGHTS
    calls = by_call(readings)
    share = wilson(sum(c.good for c in calls), len(calls))
    sustained = sustained_calls(calls, brief)
    measured: dict[Dimension, _Measured] = {
        "voice": _voice(share, brief),
        "video": _video(video, brief),
        "capacity": _capacity(sustained, brief),
        "steadiness": _steadiness(calls),
        "load": (None, "No line fill has been run yet."),
        "reachability": _reachability(readings),
        "marking": _marking(readings),
    }
    days = len({c.day for c in calls})
    busy_hours = len({(c.day, c.minute // 60) for c in calls if c.busy})
    missing = _missing(days, busy_hours, len(calls), {d: measured[d] for d in weights}, brief)
    if not calls:
        empty = tuple(_dimension(d, None, measured[d][1], findings, weights[d], 0.0) for d in weights)
        return Verdict("no evidence", True, None, None, (), missing, empty, share, None, 0, 0, 0)

    total_weight = sum(weight for d, weight in weights.items() if measured[d][0] is not None)
    scored = tuple(_dimension(d, *measured[d], findings, weight, 100 / total_weight) for d, weight in weights.items())
    total = 100 - sum(d.lost_points for d in scored)
    stops, conditions = _gates(scored, share, sustained, brief)
    word: Word = "not ready" if stops else "ready with conditions" if conditions else "ready"
    cap = NOT_READY_CAP if stops else CONDITIONS_CAP if conditions else 100
    return Verdict(
        word=word,
        provisional=bool(missing),
        score=round(min(total, cap)),
        uncapped=total,
        reasons=tuple(stops + conditions),
        missing=missing,
        dimensions=scored,
        share=share,
        sustained_calls=sustained,
        days=days,
        busy_hours=busy_hours,
        calls=len(calls),
    )


def sustained_calls(calls: Sequence[CallReading], brief: Brief) -> int | None:
    """Most calls at once up to which every tried number reached the required share; None when none was tried.

    Single calls placed to watch the line are not tries at a number of calls.
    """
    tries = ((call.concurrent, call.good) for call in calls if call.concurrent > 1)
    return staircase(tries, brief.required_share_pct).sustained_calls


def points(value: float, breakpoints: Sequence[tuple[float, float]]) -> float:
    """The breakpoints' straight lines at ``value``."""
    return float(np.interp(value, [b[0] for b in breakpoints], [b[1] for b in breakpoints]))


_Measured = tuple[float | None, str]


def _voice(share: Share, brief: Brief) -> _Measured:
    if share.pct is None:
        return None, "No call has been judged yet."
    shortfall = max(0.0, brief.required_share_pct - share.pct)
    says = (
        f"{share.pct:.1f} % of {share.calls} calls reached {brief.target_mos:.1f} MOS "
        f"({share.low_pct:.1f}–{share.high_pct:.1f} % at 95 %), {brief.required_share_pct:g} % required."
    )
    return points(shortfall, VOICE_SHORTFALL), says


def _video(facts: Sequence[VideoFact], brief: Brief) -> _Measured:
    good, count = good_streams(list(facts), brief)
    if not count:
        return None, "No video stream has been placed yet."
    share = wilson(good, count)
    says = (
        f"{100 * good / count:.1f} % of {count} video streams reached a picture score of {brief.target_picture:.1f} "
        f"({share.low_pct:.1f}–{share.high_pct:.1f} % at 95 %)."
    )
    return points(max(0.0, brief.required_share_pct - 100 * good / count), VOICE_SHORTFALL), says


def _capacity(sustained: int | None, brief: Brief) -> _Measured:
    if sustained is None:
        return None, "No run has held several calls at once yet."
    return (
        points(sustained / brief.needed_calls, CAPACITY_SHARE),
        f"{sustained} calls at once sustained, {brief.needed_calls} needed.",
    )


def _steadiness(calls: list[CallReading]) -> _Measured:
    if not calls:
        return None, "Nothing has been watched yet."
    cells: dict[tuple[str, int], bool] = {}
    for call in calls:
        cell = (call.day, call.minute // CELL_MINUTES)
        cells[cell] = cells.get(cell, True) and call.good
    troubled = sum(not good for good in cells.values())
    return (
        points(100 * troubled / len(cells), TROUBLED_CELLS_PCT),
        f"{troubled} of {len(cells)} watched ten-minute cells held an unacceptable call.",
    )


def _reachability(readings: list[Reading]) -> _Measured:
    if not readings:
        return None, "No call has been placed yet."
    silent = sum(r.fact.received == 0 for r in readings)
    return (
        points(100 * silent / len(readings), SILENT_CALLS_PCT),
        "Both directions carried sound in every call."
        if not silent
        else f"{silent} of {len(readings)} directions of calls carried no sound.",
    )


def _marking(readings: list[Reading]) -> _Measured:
    kept = [r.fact.dscp_kept_pct for r in readings if r.fact.dscp_kept_pct is not None]
    if not kept:
        return None, "No marked call has been placed yet."
    mean = float(np.mean(kept))
    return points(mean, MARKING_KEPT_PCT), f"{mean:.1f} % of packets arrived marked as they were sent."


def _missing(
    days: int, busy_hours: int, calls: int, measured: dict[Dimension, _Measured], brief: Brief
) -> tuple[str, ...]:
    short = []
    for have, need, one, many in (
        (days, brief.required_days, "day", "days"),
        (busy_hours, brief.required_busy_hours, "busy hour", "busy hours"),
        (calls, brief.required_calls, "call", "calls"),
    ):
        if have < need:
            short.append(f"{have} of {need} {one if need == 1 else many}")
    if calls == 0:
        return tuple(short)
    short += [f"{TITLES[d].lower()} not measured" for d, (score, _) in measured.items() if score is None]
    return tuple(short)


def _dimension(
    dimension: Dimension, score: float | None, says: str, findings: list[Finding], weight: int, scale: float
) -> DimensionScore:
    lost = 0.0 if score is None else (100 - score) / 100 * weight * scale
    takers = [f.key for f in findings if dimension in f.dimensions]
    return DimensionScore(
        dimension,
        TITLES[dimension],
        weight,
        score,
        says,
        lost,
        takers[0] if lost > 0.05 and takers else None,
    )


def _gates(
    scored: tuple[DimensionScore, ...], share: Share, sustained: int | None, brief: Brief
) -> tuple[list[str], list[str]]:
    stops, conditions = [], []
    if share.high_pct < brief.required_share_pct:
        stops.append(
            f"Certainly fewer than {brief.required_share_pct:g} % of calls are acceptable: at most "
            f"{share.high_pct:.1f} % at 95 % certainty."
        )
    elif share.low_pct < brief.required_share_pct:
        conditions.append(
            f"Whether {brief.required_share_pct:g} % of calls are acceptable is not certain yet: "
            f"{share.low_pct:.1f} to {share.high_pct:.1f} %."
        )
    if sustained is not None and sustained < brief.needed_calls:
        stops.append(f"{sustained} calls at once are sustained, {brief.needed_calls} are needed.")
    for d in scored:
        if d.score is not None and d.score < CONDITION_BELOW:
            conditions.append(f"{d.title} stands at {d.score:.0f} of 100.")
    return stops, conditions
