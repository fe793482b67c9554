"""Two runs side by side: the moment they fell in is not mistaken for a difference."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from tarnfell.core.compare import ENOUGH_LOOKS, ENOUGH_OTHERS, mean_difference, share_difference
from tarnfell.core.verdict.moments import Moment, Tally


def looks(*moments: list[float]) -> dict[Moment, list[float]]:
    return {("2026-11-20", i): values for i, values in enumerate(moments)}


def tallies(*moments: tuple[int, int]) -> dict[Moment, Tally]:
    return {("2026-11-20", i): Tally(calls, good, float(good)) for i, (good, calls) in enumerate(moments)}


def test_newcombe_on_moments_as_published() -> None:
    """Newcombe, Statistics in Medicine 17 (1998), method 10, here from Clopper-Pearson ends: 0/10 against 10/10."""
    found = share_difference(tallies(*[(0, 1)] * 10), tallies(*[(1, 1)] * 10), smallest=1)
    assert found.change == 100
    assert found.low == pytest.approx(100 - np.hypot(30.85, 30.85), abs=0.1)
    assert found.sure


def test_hundreds_of_calls_in_one_moment_each_prove_no_difference() -> None:
    assert not share_difference(tallies((100, 100)), tallies((60, 100)), smallest=1).sure
    many = tallies(*[(100, 100)] * 30), tallies(*[(60, 100)] * 30)
    assert share_difference(*many, smallest=1).sure


def test_shares_without_calls() -> None:
    assert share_difference({}, tallies((5, 5))).change is None


@given(
    st.lists(st.floats(1, 5), min_size=ENOUGH_LOOKS, max_size=30),
    st.lists(st.floats(1, 5), min_size=ENOUGH_LOOKS, max_size=30),
)
def test_welch_on_moments_as_scipy_has_it(first: list[float], second: list[float]) -> None:
    if np.var(first) + np.var(second) < 1e-4:
        return
    # Ten calls in each moment add nothing to what the moment says.
    found = mean_difference(looks(*[[v] * 10 for v in first]), looks(*[[v] for v in second]))
    interval = stats.ttest_ind(second, first, equal_var=False).confidence_interval()
    assert found.low == pytest.approx(interval.low, abs=1e-9)
    assert found.high == pytest.approx(interval.high, abs=1e-9)


def test_two_runs_of_one_healthy_site_seldom_differ() -> None:
    """Of pairs of runs whose moments differ as the site's moments do, about one in twenty may look different."""
    rng = np.random.default_rng(5)
    sure = 0
    for _ in range(400):
        others = rng.normal(20, 2, 40)
        a, b = rng.normal(20, 2, 2)
        first, second = (looks((one + rng.normal(0, 0.1, 25)).tolist()) for one in (a, b))
        sure += mean_difference(first, second, others.tolist(), smallest=0.1).sure
    assert sure < 0.08 * 400


def test_a_change_that_does_not_matter_is_not_significant() -> None:
    others = [4.36] * ENOUGH_OTHERS
    assert not mean_difference(looks([4.364]), looks([4.356]), others, smallest=0.1).sure
    assert mean_difference(looks([4.364]), looks([4.2]), others, smallest=0.1).sure


def test_too_little_to_tell() -> None:
    assert mean_difference({}, looks([4.0])).change is None
    one = mean_difference(looks([4.0]), looks([3.0, 3.2]), [4.0] * (ENOUGH_OTHERS - 1))
    assert (one.change, one.low, one.sure) == (pytest.approx(-0.9), None, False)
