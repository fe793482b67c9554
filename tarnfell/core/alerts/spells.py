"""The times at which what was measured keeps a rule. The same for a rule that is tried on the past as for one at work.

A spell begins once the rule has been kept for as long as it asks, and is dated back to when that began. It is over once
as much evidence stands against it. Time without evidence is neither: it begins no spell and ends none.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.alerts.rules import Rule
from tarnfell.core.days.baseline import USABLE_DAYS
from tarnfell.core.days.local import day_and_minute, weekday
from tarnfell.core.days.rounds import Flags, Floats, Ints

MINUTE_US = 60_000_000
SPREADS = 6.0
"""Above normal: by so many times the usual distance from the median, and by so many milliseconds at the least."""
LEAST_ABOVE_MS = 10.0
MAD_TO_SIGMA = 1.4826


@dataclass(frozen=True)
class Spell:
    from_us: int
    until_us: int | None
    """None: it is still on."""
    value: float
    """What was measured over it: percent, median milliseconds, MOS, minutes."""
    usual: float | None = None
    """Above normal: the median of its first hour."""


@dataclass(frozen=True)
class Minutes:
    """One place, whole minutes with samples in the order of time. ``p50_ms`` is NaN where nothing was answered."""

    start_us: Ints
    sent: Ints
    lost: Ints
    p50_ms: Floats


@dataclass(frozen=True)
class Normal:
    """As core/days/baseline.py has it: shape (168,)."""

    days: int
    median_ms: Floats
    mad_ms: Floats

    @property
    def usable(self) -> bool:
        return self.days >= USABLE_DAYS


@dataclass(frozen=True)
class CallTest:
    """A run of calls: the median MOS of its calls in the direction that had the lower."""

    at_us: int
    mos: float


def of_minutes(rule: Rule, minutes: Minutes, normal: Normal | None, zone: ZoneInfo, is_on: bool = False) -> list[Spell]:
    """Of a rule about a place. Above normal, nothing is until a week of normal is known.

    ``is_on`` is whether a spell was on before the first of the minutes; it is then dated from there.
    """
    usual = _usual(minutes, normal, zone)
    match rule.kind:
        case "loss":
            bad: Flags = 100 * minutes.lost > rule.limit * minutes.sent
        case "delay":
            bad = minutes.p50_ms > rule.limit
        case _:
            if normal is None or not normal.usable:
                return []
            bad = minutes.p50_ms > usual[0] + np.maximum(SPREADS * MAD_TO_SIGMA * usual[1], LEAST_ABOVE_MS)
    # A delay is nothing where nobody answered: such a minute tells neither way.
    tells = minutes.sent > 0 if rule.kind == "loss" else ~np.isnan(minutes.p50_ms)
    return [
        _measured(rule, minutes, usual[0], first, last, is_over)
        for first, last, is_over in _stretches(
            minutes.start_us[tells], bad[tells], rule.minutes, np.nonzero(tells)[0], is_on
        )
    ]


def _stretches(start_us: Ints, bad: Flags, least: int, number: Ints, is_on: bool) -> list[tuple[int, int, bool]]:
    """First and last bad minute, as ``number`` has them, of each spell; and whether it is over."""
    if not len(bad):
        return []
    # Minutes alike on end; bad ones are on end only where no minute is missing between them.
    begins = np.flatnonzero((bad[1:] != bad[:-1]) | (bad[1:] & (np.diff(start_us) != MINUTE_US))) + 1
    begin = [0, *begins.tolist()]
    found: list[tuple[int, int, bool]] = []
    first = last = 0
    for at, end, is_bad in zip(begin, [*begin[1:], len(bad)], bad[begin].tolist(), strict=True):
        if is_bad:
            last = end - 1
            if not is_on and end - at >= least:
                is_on, first = True, at
        elif is_on and end - at >= least:
            found.append((int(number[first]), int(number[last]), True))
            is_on = False
    if is_on:
        found.append((int(number[first]), int(number[last]), False))
    return found


def _measured(rule: Rule, minutes: Minutes, usual: Floats, first: int, last: int, is_over: bool) -> Spell:
    own = slice(first, last + 1)
    if rule.kind == "loss":
        value = 100 * float(minutes.lost[own].sum()) / float(minutes.sent[own].sum())
    else:
        value = float(np.nanmedian(minutes.p50_ms[own]))
    until = int(minutes.start_us[last]) + MINUTE_US if is_over else None
    normal = float(usual[first]) if rule.kind == "above-normal" else None
    return Spell(int(minutes.start_us[first]), until, value, normal)


def _usual(minutes: Minutes, normal: Normal | None, zone: ZoneInfo) -> tuple[Floats, Floats]:
    """Median and spread of each minute's hour of the week."""
    if normal is None or not len(minutes.start_us):
        nothing = np.full(len(minutes.start_us), np.nan)
        return nothing, nothing
    days, minute = day_and_minute(minutes.start_us, zone)
    hour = weekday(days) * 24 + minute // 60
    return normal.median_ms[hour], normal.mad_ms[hour]


def of_tests(rule: Rule, tests: Sequence[CallTest]) -> list[Spell]:
    """While at least ``count`` of the newest ``of`` tests are below; tests in the order of time.

    What counted for a spell that is over may count for the next as well, which is dated from after it.
    """
    found: list[Spell] = []
    begun: int | None = None
    ended = 0
    for i in range(len(tests)):
        seen = tests[max(0, i - rule.of + 1) : i + 1]
        below = [one for one in seen if one.mos < rule.limit]
        if begun is None and len(below) >= rule.count:
            begun = next(n for n in range(max(ended, i - rule.of + 1), i + 1) if tests[n].mos < rule.limit)
        elif begun is not None and len(below) < rule.count:
            found.append(_of_these(rule, tests[begun : i + 1], tests[i].at_us))
            begun, ended = None, i
    if begun is not None:
        found.append(_of_these(rule, tests[begun:], None))
    return found


def _of_these(rule: Rule, tests: Sequence[CallTest], until_us: int | None) -> Spell:
    below = [one.mos for one in tests if one.mos < rule.limit]
    return Spell(tests[0].at_us, until_us, float(np.median(below)))


def of_absences(rule: Rule, absences: Sequence[tuple[int, int | None]], now_us: int) -> list[Spell]:
    """Of times without contact or samples, None where one is still on: those that were long enough."""
    long = [
        Spell(from_us, until_us, ((until_us or now_us) - from_us) / MINUTE_US)
        for from_us, until_us in absences
        if (until_us or now_us) - from_us >= rule.minutes * MINUTE_US
    ]
    return sorted(long, key=lambda one: one.from_us)
