"""A machine that stands still now and then: ``pytest -p tests.standstill`` lets clocks leap ahead while a test runs.

By four seconds at most each time, which a busy machine does to any of its programs; a test that fails so goes by
the clock. For tests within one process: other programs' clocks stay as they are. ``SEED=2`` leaps at other moments.
"""

from __future__ import annotations

import os
import random
import time
from collections.abc import Iterator

import pytest

CHANCE, LONGEST_S, LONGEST_IN_A_TEST_S = 0.3, 4.0, 40.0

_wall_ns, _steady_ns = time.time_ns, time.monotonic_ns
_moments = random.Random()
_behind_s = 0.0
_until_s = 0.0


def _leapt_ns() -> int:
    global _behind_s
    if _behind_s < _until_s and _moments.random() < CHANCE:
        _behind_s += _moments.uniform(0.05, LONGEST_S)
    return round(_behind_s * 1e9)


time.time_ns = lambda: _wall_ns() + _leapt_ns()
time.time = lambda: time.time_ns() / 1e9
# Both clocks are as far ahead; a look at the wall's alone makes them leap.
time.monotonic_ns = lambda: _steady_ns() + round(_behind_s * 1e9)
time.monotonic = lambda: time.monotonic_ns() / 1e9


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Iterator[None]:
    global _until_s
    _moments.seed(item.nodeid + os.environ.get("SEED", ""))
    _until_s = _behind_s + LONGEST_IN_A_TEST_S
    try:
        return (yield)
    finally:
        _until_s = 0.0
