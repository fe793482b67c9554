"""What a call that misses a bound is told to suffer from, at the edges."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.verdict.readings import STANDING_QUEUE_MS, Trouble, _dominant
from tests.core.verdict.made_up import week

FACT = week()[0]


@pytest.mark.parametrize(
    ("loss_pct", "late_pct", "mouth_to_ear_ms", "queue_ms", "trouble"),
    [
        (None, 0.5, 90.0, 0.0, Trouble.LATE),
        (0.0, 0.9, 90.0, 0.0, Trouble.LATE),
        (0.6, None, 90.0, 0.0, Trouble.LOSS),
        (2.0, 2.0, 90.0, 0.0, Trouble.LOSS),
        (2.0, 2.1, 90.0, 0.0, Trouble.LATE),
        (2.0, 2.1, 90.0, STANDING_QUEUE_MS, Trouble.QUEUE),
        (2.0, 2.1, 90.0, STANDING_QUEUE_MS - 0.1, Trouble.LATE),
        (0.1, 0.0, 700.0, 0.0, Trouble.FAR),
        (0.0, 0.0, None, 0.0, Trouble.FAR),
    ],
)
def test_what_costs_most_of_r_is_the_trouble(
    loss_pct: float | None, late_pct: float | None, mouth_to_ear_ms: float | None, queue_ms: float, trouble: Trouble
) -> None:
    fact = replace(FACT, loss_pct=loss_pct, late_pct=late_pct, mouth_to_ear_ms=mouth_to_ear_ms)
    assert _dominant(fact, queue_ms) is trouble
