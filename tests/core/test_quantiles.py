"""Quantiles are NumPy's, to the last bit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from tarnfell.core.quantiles import quantiles

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
