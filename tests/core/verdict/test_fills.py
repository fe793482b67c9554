"""Filled lines as evidence: what counts as behaviour under load, and causes joined to those that calls have shown."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from tarnfell.core.line.values import LineCause
from tarnfell.core.verdict.fills import FillFact, causes_of_fills, under_load
from tests.core.verdict.made_up import BRIEF

QUEUE = LineCause(
    "uplink-queue", "line", "up", "A queue", "It adds 300 ms.", ("Not the network inside.",), "Shape.", "x"
)


def fact(number: int = 1, **more: Any) -> FillFact:
    whole: dict[str, Any] = {
        "fill_id": number, "direction": "up", "day": "2026-03-24", "minute": 600.0, "busy": True, "full": True,
        "idle_mos": 4.4, "mos": 2.5, "mos_marked": None, "kept_pct": None, "causes": (QUEUE,), **more,
    }  # fmt: skip
    return FillFact(**whole)


@pytest.mark.parametrize(
    ("marked", "kept_pct", "counts"),
    [
        (4.2, 90.0, 4.2),  # marking arrives: marked phones would have this
        (4.2, 89.9, 2.5),
        (4.2, None, 2.5),
        (2.0, 100.0, 2.5),  # the better of both
        (None, 100.0, 2.5),
    ],
)
def test_what_counts_of_a_full_line_is_what_marked_phones_would_have(
    marked: float | None, kept_pct: float | None, counts: float
) -> None:
    assert fact(mos_marked=marked, kept_pct=kept_pct).under_load == counts


def test_a_line_that_was_not_full_says_nothing_of_a_full_one() -> None:
    assert fact(full=False).under_load is None
    assert fact(mos=None).under_load is None
    empty = under_load([fact(full=False)])
    assert (empty.worst, empty.fills, empty.least, empty.whole) == ({}, 0, None, False)


def test_the_worst_of_each_direction_counts() -> None:
    facts = [fact(1, mos=3.0), fact(2, mos=2.0), fact(3, mos=4.1, direction="down"), fact(4, full=False)]
    told = under_load(facts)
    assert (told.worst, told.fills, told.least, told.whole) == ({"up": 2.0, "down": 4.1}, 3, 2.0, True)
    assert under_load(facts[:2]).whole is False


def test_only_the_newest_fill_between_two_ends_tells_its_causes() -> None:
    old, mended = fact(1), fact(2, causes=(), mos=4.3)
    assert causes_of_fills([old, mended], [], BRIEF) == []
    assert causes_of_fills([mended, old], [], BRIEF) == []
    # Another probe, another far end and the other direction have newest ones of their own.
    for other in ({"probe_id": 7}, {"far_end_id": 7}, {"direction": "down"}):
        assert len(causes_of_fills([old, replace(mended, **other)], [], BRIEF)) == 1


def test_points_lost_are_by_how_far_the_target_is_missed() -> None:
    (cause,) = causes_of_fills([fact(1, mos=3.0), fact(2, mos=2.5)], [], BRIEF)
    assert cause.cost == {"load": pytest.approx(BRIEF.target_mos - 2.5)}
    assert (cause.calls_hit, cause.calls, cause.of) == (2, 2, "line fills")
    (harmless,) = causes_of_fills([fact(mos=BRIEF.target_mos)], [], BRIEF)
    assert harmless.cost == {}
    (better,) = causes_of_fills([fact(mos=4.4)], [], BRIEF)
    assert better.cost == {}


def test_what_calls_have_shown_of_the_same_is_one_cause_with_both_sentences() -> None:
    (shown,) = causes_of_fills([fact()], [], BRIEF)
    by_calls = replace(shown, says=("Calls wait in the evening.",), leg="unknown", of="calls")
    (joined,) = causes_of_fills([fact()], [by_calls], BRIEF)
    assert joined.says == ("Calls wait in the evening.", "It adds 300 ms.")
    assert joined.leg == "line"  # which calls alone did not show
    # What the calls cost stands, and it takes its part of behaviour under load.
    (both,) = causes_of_fills([fact()], [replace(by_calls, cost={"voice": 7.0})], BRIEF)
    assert both.cost == {"voice": 7.0, "load": pytest.approx(BRIEF.target_mos - 2.5)}
    (placed,) = causes_of_fills([fact()], [replace(by_calls, leg="inside")], BRIEF)
    assert placed.leg == "inside"
    (again,) = causes_of_fills([fact()], [joined], BRIEF)
    assert again.says == joined.says
    down = replace(by_calls, direction="down")
    assert len(causes_of_fills([fact()], [down], BRIEF)) == 2
