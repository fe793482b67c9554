"""Whole weeks whose truth is known: all of it is found, on its leg, and quiet weeks stay quiet.

Sampled more seldom here than a probe does; once a second, and more of them, in benchmarks/days.
"""

from __future__ import annotations

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import analyse
from tarnfell.core.quality import criterion_for
from tests.core.days.weeks import LONDON, QUIET, SHORT, TROUBLES, match

CRITERION = criterion_for(find_codec("g711a"), 20)


@pytest.mark.parametrize("name", TROUBLES)
def test_trouble_is_found_on_its_leg_and_nothing_else(name: str) -> None:
    interval_s = 1.0 if "seconds" in name else 3.0
    week = TROUBLES[name](42, interval_s=interval_s)
    told = analyse(week.rounds(), CRITERION, 4.0, LONDON)
    pairs = match(week, told.episodes)
    assert len(pairs) == len(week.truth)
    assert len(told.episodes) <= len(week.truth) + 1
    assert [true.leg for true, _ in pairs] == [one.leg for _, one in pairs]
    assert [true.kind for true, _ in pairs] == [one.kind for _, one in pairs]
    assert {one.leg: one.days for one in told.recurrences} == week.comes_back


@pytest.mark.parametrize("name", SHORT)
def test_of_few_rounds_the_leg_is_told_right_or_not_at_all(name: str) -> None:
    week = SHORT[name](42)
    told = analyse(week.rounds(), CRITERION, 4.0, LONDON)
    pairs = match(week, told.episodes)
    assert len(pairs) >= 0.9 * len(week.truth)
    assert len(told.episodes) <= len(week.truth)
    assert sum(one.leg == true.leg for true, one in pairs) >= 0.9 * len(pairs)
    assert sum(one.leg not in (true.leg, "unknown") for true, one in pairs) <= 1


@pytest.mark.parametrize("seed", range(100))
def test_a_quiet_week_stays_quiet(seed: int) -> None:
    make = list(QUIET.values())[seed % len(QUIET)]
    told = analyse(make(9000 + seed, interval_s=20.0).rounds(), CRITERION, 4.0, LONDON)
    assert (told.episodes, told.recurrences, told.findings) == ((), (), ())
