"""A moment in a site's own time: whether it is in business hours, at the minute and at the midnight where they end."""

from __future__ import annotations

from datetime import datetime
from types import SimpleNamespace
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from tarnfell.core.business import BusinessHours
from tarnfell.work.evidence.facts import moment_at

ZONE = "Europe/London"
DAY = {"open_minute": 540, "close_minute": 1020, "open_days": "12345"}
NIGHT = {"open_minute": 1320, "close_minute": 360, "open_days": "15"}
"""Mondays and Fridays from 22:00 to 6:00 of the day after."""


def at(text: str, hours: dict[str, Any]) -> Any:
    local = datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(ZONE))
    site: Any = SimpleNamespace(time_zone=ZONE, business=BusinessHours(**hours))
    return moment_at(site, round(local.timestamp() * 1e6))


def test_a_moment_is_of_the_sites_day_and_minute() -> None:
    moment = at("2026-07-01T00:30:45", DAY)  # British Summer Time: the day before in UTC
    assert (moment.day, moment.minute) == ("2026-07-01", 30.75)
    assert at("2026-01-05T13:05:30", DAY).minute == 785.5


@pytest.mark.parametrize(
    ("hours", "text", "busy"),
    [
        (DAY, "2026-01-05T08:59:59", False),  # a Monday
        (DAY, "2026-01-05T09:00:00", True),
        (DAY, "2026-01-05T16:59:59", True),
        (DAY, "2026-01-05T17:00:00", False),
        (DAY, "2026-01-04T12:00:00", False),  # a Sunday
        (NIGHT, "2026-01-05T21:59:59", False),
        (NIGHT, "2026-01-05T22:00:00", True),
        (NIGHT, "2026-01-06T05:59:59", True),  # Tuesday, of Monday's hours
        (NIGHT, "2026-01-06T06:00:00", False),
        (NIGHT, "2026-01-06T22:00:00", False),  # Tuesday has none of its own
        (NIGHT, "2026-01-10T03:00:00", True),  # Saturday, of Friday's
        (NIGHT, "2026-01-05T03:00:00", False),  # Monday, of Sunday's, which has none
        ({**NIGHT, "open_days": "7"}, "2026-01-05T03:00:00", True),  # Monday, of Sunday's
    ],
)
def test_business_hours_to_the_second_and_past_midnight(hours: dict[str, Any], text: str, busy: bool) -> None:
    assert at(text, hours).busy is busy
