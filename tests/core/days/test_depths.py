"""How deep each leg's trouble was: the worst tenth of the moments, each direction by itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest

from tarnfell.core.causes import LegName, Way
from tarnfell.core.days.depths import moments_mos, path_depth

TEN = 600_000_000
CALM = 4.36
STARTS = np.arange(100, dtype=np.int64) * TEN
ALL = np.ones(100, bool)


@dataclass(frozen=True)
class Trouble:
    from_us: int
    until_us: int
    leg: LegName = "line"
    direction: Way | None = "both"
    mos: float = 2.0


def during(first: int, count: int, leg: LegName = "line", direction: Way | None = "both", mos: float = 2.0) -> Trouble:
    """From the middle of one moment into so many."""
    begin = first * TEN + TEN // 2
    return Trouble(begin, begin + (count - 1) * TEN + 1_000_000, leg, direction, mos)


def test_a_moment_is_as_bad_as_the_worst_that_touches_it() -> None:
    spoiled = [
        Trouble(TEN, 2 * TEN, mos=3.0),
        Trouble(2 * TEN - 1, 3 * TEN + 1, mos=2.0),
        Trouble(TEN, TEN + 5, mos=3.5),
    ]
    assert moments_mos(STARTS[:5], TEN, spoiled, CALM).tolist() == [CALM, 2.0, 2.0, 2.0, CALM]


@pytest.mark.parametrize(("count", "mos"), [(9, CALM), (11, 2.0)])
def test_the_worst_tenth_counts(count: int, mos: float) -> None:
    found = path_depth(["line"], STARTS, TEN, ALL, [during(0, count)], CALM)
    assert (found.legs[0].up_mos, found.legs[0].down_mos) == (pytest.approx(mos, abs=0.3), pytest.approx(mos, abs=0.3))
    assert (found.moments, found.in_business_hours, found.untold_s) == (100, True, 0)


def test_each_leg_and_each_direction_has_its_own() -> None:
    spoiled = [during(0, 20, "inside", "up"), during(30, 20, "line", "down", 3.0), during(60, 20, "beyond", None, 2.5)]
    found = path_depth(["inside", "line", "beyond"], STARTS, TEN, ALL, spoiled, CALM)
    # Of what has no direction both are thought to have had it.
    assert [(one.leg, one.up_mos, one.down_mos) for one in found.legs] == [
        ("inside", 2.0, CALM), ("line", CALM, 3.0), ("beyond", 2.5, 2.5),
    ]  # fmt: skip


def test_seconds_are_of_all_hours_and_what_no_leg_has_is_told_apart() -> None:
    busy = np.zeros(100, bool)
    busy[:50] = True
    spoiled = [during(60, 3), during(70, 2, "inside or line"), during(80, 1, "unknown")]
    found = path_depth(["inside", "line"], STARTS, TEN, busy, spoiled, CALM)
    assert [(one.up_mos, one.spoiled_s) for one in found.legs] == [(CALM, 0), (CALM, 1201)]
    assert (found.moments, found.in_business_hours, found.untold_s) == (50, True, 601 + 1)


def test_without_business_hours_all_count() -> None:
    found = path_depth(["line"], STARTS, TEN, ~ALL, [during(0, 50)], CALM)
    assert (found.legs[0].up_mos, found.moments, found.in_business_hours) == (2.0, 100, False)


def test_of_no_moment_nothing_is_bad() -> None:
    found = path_depth(["line"], STARTS[:0], TEN, ALL[:0], [during(0, 5)], CALM)
    assert (found.legs[0].up_mos, found.legs[0].spoiled_s, found.moments) == (CALM, 2401, 0)
