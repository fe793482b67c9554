"""Differences with their intervals, against published figures and SciPy's own."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from tarnfell.core.compare import mean_difference, share_difference


def test_newcombe_as_published() -> None:
    """Newcombe, Statistics in Medicine 17 (1998), table II, method 10: 56/70 against 48/80, and 9/10 against 3/10."""
    found = share_difference((48, 80), (56, 70))
    assert found.change == pytest.approx(20.0)
    assert (found.low, found.high) == (pytest.approx(5.24, abs=0.01), pytest.approx(33.39, abs=0.01))
    few = share_difference((3, 10), (9, 10))
    assert (few.low, few.high) == (pytest.approx(17.05, abs=0.01), pytest.approx(80.90, abs=0.01))


def test_shares_without_calls() -> None:
    assert share_difference((0, 0), (5, 5)).change is None
    assert not share_difference((4, 5), (5, 5)).sure
    assert share_difference((0, 100), (100, 100)).sure


@given(st.lists(st.floats(1, 5), min_size=2, max_size=30), st.lists(st.floats(1, 5), min_size=2, max_size=30))
def test_welch_as_scipy_has_it(first: list[float], second: list[float]) -> None:
    if np.var(first) + np.var(second) < 1e-4:
        return
    found = mean_difference(first, second)
    interval = stats.ttest_ind(second, first, equal_var=False).confidence_interval()
    assert found.low == pytest.approx(interval.low, abs=1e-9)
    assert found.high == pytest.approx(interval.high, abs=1e-9)


def test_too_little_to_tell() -> None:
    assert mean_difference([], [4.0]).change is None
    one = mean_difference([4.0], [3.0, 3.2])
    assert (one.change, one.low, one.sure) == (pytest.approx(-0.9), None, False)
    same = mean_difference([4.0, 4.0], [3.0, 3.0])
    assert (same.change, same.low, same.high, same.sure) == (-1.0, -1.0, -1.0, True)
