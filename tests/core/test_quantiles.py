"""Quantiles are NumPy's, to the last bit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from tarnfell.core.quantiles import quantiles, quantiles_of_each

PERCENTS = (0, 5, 33.3, 50, 98, 99.9, 100)


@given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=40).map(np.array))
def test_of_delays(values: NDArray[np.float64]) -> None:
    assert quantiles(values, PERCENTS) == np.percentile(values, PERCENTS).tolist()


@pytest.mark.parametrize("count", [1, 2, 3, 600, 50_001])
def test_of_whole_microseconds_in_any_order(count: int) -> None:
    values = np.random.default_rng(count).integers(0, 10**7, count)
    before = values.copy()
    assert quantiles(values, PERCENTS) == np.percentile(values, PERCENTS).tolist()
    assert values.tolist() == before.tolist()


@given(st.lists(st.tuples(st.floats(-1e9, 1e9), st.integers(0, 5)), max_size=60))
def test_of_each_group_as_of_one_alone(told: list[tuple[float, int]]) -> None:
    values, group = np.array([one for one, _ in told], float), np.array([of for _, of in told], np.int64)
    found = quantiles_of_each(values, group, 7, PERCENTS)
    for number in range(7):
        alone = values[group == number]
        expected = quantiles(alone, PERCENTS) if len(alone) else [np.nan] * len(PERCENTS)
        assert np.array_equal([one[number] for one in found], expected, equal_nan=True)
