"""How sure a share is: the interval holds the truth as often as it says, and more evidence never tells less."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from benchmarks.coverage import bad_days, coverage, network
from tarnfell.core.stats import moments_to_show, shown_by
from tarnfell.core.verdict.capacity import capacity_of_tallies
from tarnfell.core.verdict.moments import (
    MOST_MORE,
    Tally,
    good_moments_more,
    interval,
    moments_between,
    share_of,
    tally,
    worth_of,
)

NONE = np.empty(0)


def tallies(shares: list[float], calls: int = 10, a_day: int = 60) -> dict:
    return {(f"day {i // a_day}", i % a_day): Tally(calls, round(s * calls), s * calls) for i, s in enumerate(shares)}


def test_without_a_bad_call_it_is_clopper_pearson_on_moments_whatever_the_number_of_calls() -> None:
    for moments in (1, 7, 60, 122, 300):
        expected = stats.binomtest(moments, moments).proportion_ci(0.95, method="exact").low
        for calls in (moments, 100 * moments):
            low, high = interval(np.ones(moments), calls, NONE)
            assert (low, high) == (pytest.approx(expected), 1.0)


def test_moments_wholly_good_or_bad_are_clopper_pearson_too() -> None:
    shares = np.array([1.0] * 55 + [0.0] * 5)
    expected = stats.binomtest(55, 60).proportion_ci(0.95, method="exact")
    low, high = interval(shares, 60, np.ones(5))
    assert (low, high) == (pytest.approx(expected.low, abs=1e-6), pytest.approx(expected.high, abs=1e-6))


def test_bad_calls_spread_thinly_are_known_better_than_bad_moments() -> None:
    """Nine in ten of every moment's calls, or nine in ten moments wholly good: one share, not one certainty."""
    thin = interval(np.full(100, 0.9), 1000, np.full(100, 0.1))
    lumped = interval(np.array([1.0] * 90 + [0.0] * 10), 1000, np.ones(10))
    assert thin[1] - thin[0] < 0.6 * (lumped[1] - lumped[0])


@pytest.mark.parametrize("required", [90, 95, 97, 99, 99.9])
def test_moments_to_show_are_the_fewest(required: float) -> None:
    fewest = moments_to_show(required)
    assert shown_by(fewest) >= required > shown_by(fewest - 1)
    assert 100 * interval(np.ones(fewest), fewest, NONE)[0] >= required
    assert good_moments_more({}, required) == fewest


def test_figures_that_the_documents_name() -> None:
    assert [moments_to_show(p) for p in (95, 97, 99)] == [72, 122, 368]
    with pytest.raises(ValueError, match="between 0 and 100"):
        moments_to_show(100)


@given(st.lists(st.sampled_from([0.0, 0.5, 0.9, 1.0]), max_size=200), st.sampled_from([90.0, 97.0]))
def test_so_many_more_and_no_fewer(shares: list[float], required: float) -> None:
    found = tallies(shares)
    more = good_moments_more(found, required)

    def low(extra: int) -> float:
        added = {(f"+{i // 144}", i % 144): Tally(1, 1, 1.0) for i in range(extra)}
        return share_of({**found, **added}).low_pct

    if more == MOST_MORE:
        return
    assert low(more) >= required or not (shares or more)
    if more > 0:
        assert low(more - 1) < required


@pytest.mark.parametrize("moments", [1, 5, 20, 80, 300])
@pytest.mark.parametrize("calls", [1, 10, 100])
def test_the_interval_holds_the_truth_as_often_as_it_says(moments: int, calls: int) -> None:
    """Calls correlated within their moment, from not at all to wholly."""
    for rho in (0.0, 0.2, 1.0):
        for p in (0.9, 0.97, 0.999):
            assert coverage(network(moments, calls, rho, p), p) >= 0.93, (moments, calls, rho, p)


@pytest.mark.parametrize("watched", [2, 7, 30])
def test_with_days_that_differ_it_holds_the_share_of_the_days_watched(watched: int) -> None:
    for rho_day in (0.02, 0.1, 0.3):
        for p in (0.9, 0.97):
            made = bad_days(watched, 60, rho_day, p)
            assert coverage(made, made.truth) >= 0.93, (watched, rho_day, p)


@pytest.mark.parametrize("watched", [7, 14, 30])
def test_with_bad_days_what_is_claimed_holds_for_other_days_as_well(watched: int) -> None:
    """As far as the days watched show that there are bad ones."""
    for p in (0.9, 0.97, 0.99):
        made = bad_days(watched, 60, 0.02, p)
        assert coverage(made, p, ends="low") >= 0.93, (watched, p)
    assert coverage(bad_days(30, 60, 0.1, 0.97), 0.97, ends="low") >= 0.93


def test_bad_moments_of_one_day_show_less_than_the_same_spread_over_the_week() -> None:
    shares = np.ones(420)
    shares[:6] = 0.0
    spread, one_day = interval(shares, 420, np.ones(6)), interval(shares, 420, np.array([6.0]))
    assert one_day[0] < spread[0] - 0.02
    assert one_day[1] == spread[1]


def test_one_day_of_nothing_but_failure_is_shown_not() -> None:
    assert share_of({("d", i): Tally(1, 0, 0.0) for i in range(24)}).high_pct < 15


shares = st.lists(st.sampled_from([0.0, 0.25, 0.5, 0.9, 1.0]), min_size=1, max_size=120)


@given(shares, st.integers(1, 40), st.booleans())
def test_good_evidence_never_lowers_the_lower_end_and_bad_never_raises_the_upper(
    before: list[float], more: int, new_day: bool
) -> None:
    found = tallies(before)
    first = share_of(found)
    day = "another day" if new_day else "day 0"
    extra = [(day, 200 + i) for i in range(more)]
    better = share_of({**found, **{m: Tally(10, 10, 10.0) for m in extra}})
    worse = share_of({**found, **{m: Tally(10, 0, 0.0) for m in extra}})
    assert better.low_pct >= first.low_pct - 1e-6
    assert worse.high_pct <= first.high_pct + 1e-6


def test_a_near_miss_is_worth_nearly_as_much() -> None:
    near = {("a", i): Tally(10, 0, 9.9) for i in range(100)}
    assert share_of(near).pct == 0
    assert worth_of(near).pct == pytest.approx(99)


def test_a_run_counts_in_every_moment_it_covers_and_not_in_the_next() -> None:
    assert moments_between("2026-11-20", 600, 30) == (("2026-11-20", 60),)
    assert moments_between("2026-11-20", 600, 600) == (("2026-11-20", 60),)
    assert moments_between("2026-11-20", 600, 601) == (("2026-11-20", 60), ("2026-11-20", 61))
    assert moments_between("2026-11-20", 609.9, 0) == (("2026-11-20", 60),)
    past_midnight = moments_between("2026-11-30", 1435, 1200)
    assert past_midnight == (("2026-11-30", 143), ("2026-12-01", 0), ("2026-12-01", 1))


def test_nothing_is_no_share() -> None:
    none = share_of({})
    assert (none.pct, none.low_pct, none.high_pct, none.moments) == (None, 0.0, 100.0, 0)


@pytest.mark.parametrize("loads", [2, 4])
def test_the_band_of_a_flat_curve_of_loads_holds_the_truth(loads: int) -> None:
    """Both of a bound's witnesses together, where they could mislead most: no load differs from another."""
    rng = np.random.default_rng(loads)
    for moments, rho, p in ((20, 1.0, 0.9), (80, 1.0, 0.95), (80, 0.2, 0.97)):
        held = 0
        for _ in range(150):
            tried = {}
            for load in range(1, loads + 1):
                good = rng.random(moments) < p if rho == 1 else rng.binomial(10, rng.beta(4 * p, 4 * (1 - p), moments))
                worth = good * (10 if rho == 1 else 1)
                tried[load] = {(f"{i % 7}", 200 * load + i): Tally(10, int(g), float(g)) for i, g in enumerate(worth)}
            step = capacity_of_tallies(tried, 97).steps[loads // 2]
            held += step.low_pct <= 100 * p <= step.high_pct
        assert held >= 0.93 * 150, (moments, rho, p)


def test_a_long_call_is_one_call_in_each_of_its_moments() -> None:
    """An hour that begins at 10:05 covers seven cells; two good and one bad are three calls, not 21."""
    hour = moments_between("2026-03-04", 605, 3600)
    share = share_of(tally([(hour, True, 1.0), (hour, True, 1.0), (hour, False, 0.0)]))
    assert (share.good, share.calls, share.moments) == (2, 3, 7)
    assert share.pct == pytest.approx(200 / 3)
    after = share_of(tally([(hour, True, 1.0), (hour[3:], False, 0.0)]))
    assert (after.good, after.calls, after.moments) == (1, 2, 7)
    assert share_of({m: t + t for m, t in tally([(hour, True, 1.0)]).items()}).calls == 2


def test_how_many_more_is_looked_for_beyond_what_no_bad_one_would_need() -> None:
    """A bad moment in each of three days needs more than the fewest, and far less than the most."""
    found = {(f"2026-11-{day}", n): Tally(1, int(n > 0), float(n > 0)) for day in (16, 17, 18) for n in range(20)}
    more = good_moments_more(found, 97)
    assert moments_to_show(97) < more < MOST_MORE
    added = {(f"+{i // 144}", i % 144): Tally(1, 1, 1.0) for i in range(more)}
    assert share_of({**found, **added}).low_pct >= 97
    added.popitem()
    assert share_of({**found, **added}).low_pct < 97
