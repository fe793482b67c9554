"""Hours of the week with business in them, and those with nothing else."""

from __future__ import annotations

import pytest

from tarnfell.core.business import BusinessHours


def of(day: int, *hours: int) -> set[tuple[int, int]]:
    return {(day, hour) for hour in hours}


@pytest.mark.parametrize(
    ("days", "opens", "closes", "some", "whole"),
    [
        ("1", 540, 660, of(1, 9, 10), of(1, 9, 10)),
        ("1", 541, 659, of(1, 9, 10), set()),
        ("12", 570, 661, of(1, 9, 10, 11) | of(2, 9, 10, 11), of(1, 10) | of(2, 10)),
        ("6", 0, 1440, of(6, *range(24)), of(6, *range(24))),
        ("3", 1439, 1440, of(3, 23), set()),
        # Past midnight they are of the day they begin on, and of the week that goes round.
        ("7", 1320, 120, of(7, 22, 23) | of(1, 0, 1), of(7, 22, 23) | of(1, 0, 1)),
        ("15", 1320, 90, of(1, 22, 23) | of(2, 0, 1) | of(5, 22, 23) | of(6, 0, 1),
         of(1, 22, 23) | of(2, 0) | of(5, 22, 23) | of(6, 0)),
    ],
)  # fmt: skip
def test_hours_with_some_business_and_with_nothing_else(
    days: str, opens: int, closes: int, some: set[tuple[int, int]], whole: set[tuple[int, int]]
) -> None:
    business = BusinessHours(days, opens, closes)
    assert (business.hours(), business.whole_hours()) == (some, whole)
