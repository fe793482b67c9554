"""Which hours of the week were seen, how often, and under how many calls."""

from __future__ import annotations

import pytest

from tarnfell.core.verdict.coverage import CoveredHour
from tarnfell.store.sites import Site
from tarnfell.work.evidence.site_time import open_hours
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


@pytest.mark.parametrize(
    ("opens", "closes", "days", "hours"),
    [
        (9 * 60, 11 * 60, "1", {(1, 9), (1, 10)}),
        (9 * 60 + 30, 11 * 60 + 1, "12", {(1, 9), (1, 10), (1, 11), (2, 9), (2, 10), (2, 11)}),
        (22 * 60, 2 * 60, "7", {(7, 22), (7, 23), (1, 0), (1, 1)}),
        (0, 1440, "6", {(6, hour) for hour in range(24)}),
    ],
)
def test_hours_of_business_are_those_with_business_in_them(
    opens: int, closes: int, days: str, hours: set[tuple[int, int]]
) -> None:
    site = Site.__new__(Site)
    for name, value in (("open_minute", opens), ("close_minute", closes), ("open_days", days)):
        object.__setattr__(site, name, value)
    assert open_hours(site) == hours
