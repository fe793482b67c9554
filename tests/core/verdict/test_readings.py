"""What a call that misses a bound is told to suffer from, at the edges."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.verdict.readings import STANDING_QUEUE_MS, Trouble, _dominant, _picture_worth, _trouble
from tests.core.verdict.made_up import BRIEF, stream, week

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


@pytest.mark.parametrize(
    ("bound", "added_ms", "trouble"),
    [
        ("max_loss_pct", STANDING_QUEUE_MS, Trouble.QUEUE),
        ("max_loss_pct", STANDING_QUEUE_MS - 0.1, Trouble.LOSS),
        ("max_variation_ms", STANDING_QUEUE_MS, Trouble.QUEUE),
        ("max_variation_ms", STANDING_QUEUE_MS - 0.1, Trouble.LATE),
    ],
)
def test_a_queue_that_stood_is_why_a_bound_was_missed(bound: str, added_ms: float, trouble: Trouble) -> None:
    fact = replace(FACT, pdv_p50_ms=0.0, pdv_p95_ms=0.0, loss_pct=5.0)
    assert _trouble(fact, added_ms, bound, BRIEF) is trouble


@pytest.mark.parametrize(
    ("score", "worth"), [(5.0, 1.0), (3.5, 1.0), (3.25, 0.75), (2.5, 0.0), (1.0, 0.0), (None, 0.0)]
)
def test_a_picture_is_worth_all_at_its_target_and_nothing_a_point_below(score: float | None, worth: float) -> None:
    brief = replace(BRIEF, target_picture=3.5)
    assert _picture_worth(stream(1, ("2026-03-02", 600.0), "up", score=score), brief) == pytest.approx(worth)
