"""What is usual: by the hour of the week, of the day, or over all hours, and what an hour never seen takes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from tarnfell.core.days.baseline import HOUR_OF_DAY_DAYS, USABLE_DAYS, baseline_of
from tarnfell.core.days.blocks import Blocks

ZONE = ZoneInfo("Europe/London")
MONDAY = datetime(2026, 11, 23, tzinfo=UTC)


def minutes(*told: tuple[int, int, float]) -> Blocks:
    """Of day, hour and round trip: one block with one answer each."""
    at = np.array([int((MONDAY + timedelta(days=day, hours=hour)).timestamp()) * 1_000_000 for day, hour, _ in told])
    trips = np.array([[trip] for _, _, trip in told])
    count = np.ones((1, len(told)), np.int64)
    return Blocks(at, 60_000_000, np.arange(len(told)), count, (trips,))


@pytest.mark.parametrize(
    ("days", "by"),
    [(HOUR_OF_DAY_DAYS - 1, "all hours"), (HOUR_OF_DAY_DAYS, "hour of the day"), (USABLE_DAYS - 1, "hour of the day"),
     (USABLE_DAYS, "hour of the week")],
)  # fmt: skip
def test_what_is_usual_is_told_by_as_much_as_was_seen(days: int, by: str) -> None:
    found = baseline_of(minutes(*((day, 9, 20.0) for day in range(days))), 0, ZONE)
    assert (found.by, found.days, found.forming) == (by, days, days < USABLE_DAYS)


def test_an_hour_never_seen_takes_the_same_hour_of_other_days_then_all() -> None:
    """Nine o'clock on all days but Sunday, at 20 ms; three in the morning on Tuesday at 80 ms."""
    told = [(day, 9, 20.0) for day in range(6)] + [(day + 7, 9, 20.0) for day in range(6)]
    found = baseline_of(minutes(*told, (1, 3, 80.0)), 0, ZONE)
    assert found.by == "hour of the week"
    hour = {(day, at): found.median_ms[24 * day + at] for day in range(7) for at in range(24)}
    assert hour[1, 3] == 80
    assert hour[4, 3] == 80  # Friday's was never seen: three o'clock of any day
    assert hour[6, 9] == 20
    assert hour[2, 15] == 20  # no day's was seen: the middle of all
    assert found.mad_ms[24 + 3] == 0
