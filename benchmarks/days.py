"""Weeks of samples whose truth is known, against what the analysis of days tells of them."""

from __future__ import annotations

import time
from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np

from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import Analysis, analyse
from tarnfell.core.quality import Criterion, criterion_for
from tests.core.days.weeks import LONDON, QUIET, SHORT, TROUBLES, Week, match

SEEDS = 6
QUIET_WEEKS = 100


@dataclass
class Tally:
    weeks: int = 0
    true: int = 0
    found: int = 0
    matched: int = 0
    leg_right: int = 0
    edges_s: list[float] = field(default_factory=list)
    recurrences: int = 0
    days_right: int = 0
    expected: int = 0


def report() -> str:
    criterion = criterion_for(find_codec("g711a"), 20)
    rows = []
    total = Tally()
    for name, make in (TROUBLES | SHORT).items():
        tally = Tally()
        for seed in range(SEEDS):
            week = make(1000 + seed)
            _count(tally, week, analyse(week.rounds(), criterion, 4.0, LONDON))
        rows.append(_row(name, tally))
        for key in ("weeks", "true", "found", "matched", "leg_right", "recurrences", "days_right", "expected"):
            setattr(total, key, getattr(total, key) + getattr(tally, key))
        total.edges_s += tally.edges_s
    rows.append(_row("**all**", total))
    quiet = _quiet(criterion)
    return "\n".join(
        [
            "## Weeks of samples with known trouble",
            "",
            f"{SEEDS} weeks of each kind, one round a second to five addresses. An episode is found where it overlaps "
            "a true one by more than half of both. Edges: how far begin and end lie off, 95th percentile.",
            "",
            "| trouble | true | told | recall | precision | leg right | edges | comes back, days right |",
            "|---|---:|---:|---:|---:|---:|---:|---:|",
            *rows,
            "",
            *quiet,
            "",
            *_speed(criterion),
        ]
    )


def _count(tally: Tally, week: Week, told: Analysis) -> None:
    pairs = match(week, told.episodes)
    tally.weeks += 1
    tally.true += len(week.truth)
    tally.found += len(told.episodes)
    tally.matched += len(pairs)
    tally.leg_right += sum(true.leg == one.leg for true, one in pairs)
    for true, one in pairs:
        tally.edges_s += [abs(week.since(one.from_us) - true.from_s), abs(week.since(one.until_us) - true.until_s)]
    for leg, days in week.comes_back.items():
        tally.expected += 1
        own = [one for one in told.recurrences if one.leg == leg]
        tally.recurrences += bool(own)
        tally.days_right += any(one.days == days for one in own)


def _row(name: str, tally: Tally) -> str:
    def pct(part: int, of: int) -> str:
        return f"{100 * part / of:.0f} %" if of else "–"

    edges = f"{np.percentile(tally.edges_s, 95):.0f} s" if tally.edges_s else "–"
    back = f"{tally.days_right} of {tally.expected}" if tally.expected else "–"
    return (
        f"| {name} | {tally.true} | {tally.found} | {pct(tally.matched, tally.true)} | "
        f"{pct(tally.matched, tally.found)} | {pct(tally.leg_right, tally.matched)} | {edges} | {back} |"
    )


def _quiet(criterion: Criterion) -> list[str]:
    alarms: dict[str, int] = defaultdict(int)
    weeks: dict[str, int] = defaultdict(int)
    kinds = list(QUIET.items())
    for seed in range(QUIET_WEEKS):
        name, make = kinds[seed % len(kinds)]
        told = analyse(make(5000 + seed).rounds(), criterion, 4.0, LONDON)
        weeks[name] += 1
        alarms[name] += bool(told.episodes or told.recurrences or told.findings)
    listed = ", ".join(f"{name} {alarms[name]} of {weeks[name]}" for name in weeks)
    return [f"Quiet weeks with an alarm: {sum(alarms.values())} of {QUIET_WEEKS} ({listed})."]


def _speed(criterion: Criterion) -> list[str]:
    week = next(iter(TROUBLES.values()))(1)
    rounds = week.rounds()
    took = []
    for _ in range(3):
        began = time.perf_counter()
        np.sort(rounds.rtt_ms, axis=1)
        yardstick = time.perf_counter() - began
        began = time.perf_counter()
        analyse(rounds, criterion, 4.0, LONDON)
        took.append((time.perf_counter() - began, yardstick))
    best = min(one for one, _ in took)
    sort = min(other for _, other in took)
    return [
        f"A site-week ({rounds.rtt_ms.size:,} samples) is analysed in {best:.1f} s, {best / sort:.1f} × the time NumPy "
        "takes to sort its samples."
    ]
