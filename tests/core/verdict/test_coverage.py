"""Which hours of the week were seen, how often, and under how many calls."""

from __future__ import annotations

from tarnfell.core.verdict.coverage import CoveredHour
from tests.core.verdict.made_up import DAYS, NOT_PLACED, judged, run


def test_an_hour_has_its_moments_days_and_most_calls() -> None:
    monday, again = DAYS[0], DAYS[5]
    facts = (
        run((monday, 600.0)) + run((monday, 605.0), calls=4) + run((monday, 659.0), seconds=90.0)
        + run((again, 610.0), calls=2) + run((DAYS[6], 0.0), **NOT_PLACED)
    )  # fmt: skip
    assert judged(facts).coverage == [
        # 10:00, 10:50 and, a week later, 10:10; the call of 10:59 goes on into 11:00.
        CoveredHour(weekday=1, hour=10, days=2, moments=3, most=4),
        CoveredHour(weekday=1, hour=11, days=1, moments=1, most=1),
        CoveredHour(weekday=2, hour=0, days=1, moments=1, most=1),
    ]


def test_what_counts_in_one_direction_only_covers_nothing() -> None:
    assert judged(run((DAYS[0], 600.0), one_way=True)).coverage == []
