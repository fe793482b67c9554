"""The runs that would give what evidence is short of: no fewer, on whole days, none two in one moment."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest

from tarnfell.core.schedule import check_rule, occurrences
from tarnfell.core.verdict.closing import Closing, Short, closing

OFFICE = {(day, hour) for day in range(1, 6) for hour in range(9, 17)}
NOTHING = Short(0, 0, 0)
LONDON = ZoneInfo("Europe/London")
MONDAY = datetime(2026, 10, 19, tzinfo=LONDON)
"""The clocks go back on the Sunday after."""


def starts(found: Closing) -> list[datetime]:
    check_rule(found.rule)
    return [at.astimezone(LONDON) for at in occurrences(MONDAY, found.rule, LONDON, MONDAY.astimezone(UTC))]


@pytest.mark.parametrize(
    ("short", "days", "an_hour"),
    [
        (Short(7, 40, 125), 7, 3),  # 56 hours: three moments to each make 168
        (Short(7, 40, 112), 7, 2),
        (Short(7, 40, 113), 7, 3),
        (Short(3, 0, 0), 3, 1),
        (Short(0, 9, 0), 2, 1),
        (Short(0, 8, 0), 1, 1),
        (Short(0, 0, 1), 1, 1),
        (Short(0, 0, 48), 1, 6),
        (Short(0, 0, 49), 2, 4),
    ],
)
def test_the_fewest_whole_days_and_runs_an_hour_that_give_it(short: Short, days: int, an_hour: int) -> None:
    found = closing(short, OFFICE, ())
    assert found is not None
    assert (found.days, len(found.minutes), found.hours, found.weekdays) == (
        days, an_hour, tuple(range(9, 17)), (1, 2, 3, 4, 5),
    )  # fmt: skip
    assert (found.runs, found.a_day) == (days * 8 * an_hour, 8 * an_hour)


def test_its_rule_places_each_run_in_a_moment_of_its_own_across_a_change_of_clocks() -> None:
    found = closing(Short(7, 40, 125), OFFICE, ())
    assert found is not None
    at = starts(found)
    assert len(at) == found.runs
    assert len({one.date() for one in at}) == 7
    assert all((one.isoweekday(), one.hour) in OFFICE for one in at)
    assert len({(one.date(), one.hour, one.minute // 10) for one in at}) == found.runs
    assert at[0] == MONDAY.replace(hour=9, minute=5)
    assert at[-1] == datetime(2026, 10, 27, 16, 45, tzinfo=LONDON)


def test_hours_without_load_and_short_days_are_kept_out() -> None:
    usable = {one for one in OFFICE if one[1] != 12} | {(6, 9), (6, 10)}
    found = closing(Short(1, 0, 0), usable, ())
    assert found is not None
    assert (found.weekdays, found.hours) == ((1, 2, 3, 4, 5), (9, 10, 11, 13, 14, 15, 16))
    weekend = closing(Short(1, 0, 0), {(6, 9), (6, 10), (6, 11), (7, 9)}, ())
    assert weekend is not None
    assert (weekend.weekdays, weekend.hours) == ((6,), (9, 10, 11))


def test_where_nothing_is_short_the_hours_without_a_call_are_seen_once() -> None:
    unseen = {(2, 14), (4, 14)}
    found = closing(NOTHING, OFFICE, OFFICE - unseen)
    assert found == Closing((2, 4), (14,), (5,), 2)
    assert [f"{one:%a %H:%M}" for one in starts(found)] == ["Tue 14:05", "Thu 14:05"]
    assert closing(NOTHING, OFFICE, OFFICE) is None
    assert closing(Short(1, 1, 1), (), ()) is None
