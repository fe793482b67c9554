"""Recurrences across clock changes, hours without load, free windows and clashes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import islice
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.core.schedule import (
    Quiet,
    ScheduleError,
    Span,
    check_rule,
    clash,
    free_window,
    longest_window,
    next_start,
    occurrences,
    quiet_span,
    spans,
)

LONDON = ZoneInfo("Europe/London")
LUNCH = Quiet("12345", 720, 780, "lunch orders")
NIGHT = Quiet("1234567", 1320, 1440, "backups")


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=LONDON)


def local(found: datetime) -> str:
    return found.astimezone(LONDON).strftime("%a %d %H:%M")


def test_nine_stays_nine_when_the_clocks_change() -> None:
    """In Britain the clocks went back on 25 October 2026."""
    found = list(islice(occurrences(at("2026-10-23T09:00"), "FREQ=DAILY", LONDON, at("2026-10-23T08:00")), 4))
    assert [local(f) for f in found] == ["Fri 23 09:00", "Sat 24 09:00", "Sun 25 09:00", "Mon 26 09:00"]
    assert found[2] - found[1] == timedelta(hours=25)


def test_a_time_that_does_not_exist_is_moved_on() -> None:
    """On 29 March 2026 01:30 was skipped in Britain."""
    found = next_start(at("2026-03-28T01:30"), "FREQ=DAILY", LONDON, at("2026-03-28T02:00"))
    assert found == datetime(2026, 3, 29, 1, 30, tzinfo=UTC)


def test_recurrences_end_by_count_and_by_date() -> None:
    start, before = at("2026-11-23T09:00"), at("2026-11-23T00:00")
    weekly = list(occurrences(start, "FREQ=WEEKLY;BYDAY=MO,WE;COUNT=3", LONDON, before))
    assert [local(f) for f in weekly] == ["Mon 23 09:00", "Wed 25 09:00", "Mon 30 09:00"]
    until = list(occurrences(start, "FREQ=DAILY;UNTIL=20261125T235959Z", LONDON, before))
    assert len(until) == 3
    assert next_start(start, None, LONDON, before) == start.astimezone(UTC)
    assert next_start(start, None, LONDON, start) is None


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        ("FREQ=SECONDLY", "how often"),
        ("BYDAY=MO", "how often"),
        ("FREQ=DAILY;BYSECOND=1", "holds “BYSECOND”"),
        ("FREQ=DAILY;COUNT=often", "cannot be read"),
        ("every day", "The recurrence holds"),
    ],
)
def test_rules_that_cannot_be(rule: str, says: str) -> None:
    with pytest.raises(ScheduleError, match=says):
        check_rule(rule)


def test_a_good_rule_is_let_through() -> None:
    check_rule("FREQ=WEEKLY;BYDAY=TU,TH;INTERVAL=2;UNTIL=20270101T000000Z")


def test_hours_without_load_are_run_into() -> None:
    span = Span(at("2026-11-23T11:50"), at("2026-11-23T12:05"))
    hit = quiet_span(span, [NIGHT, LUNCH], LONDON)
    assert hit is not None
    assert (local(hit[0].start), local(hit[0].end), hit[1].why) == ("Mon 23 12:00", "Mon 23 13:00", "lunch orders")
    assert quiet_span(Span(at("2026-11-22T11:50"), at("2026-11-22T12:05")), [LUNCH], LONDON) is None
    assert quiet_span(Span(at("2026-11-23T11:00"), at("2026-11-23T12:00")), [LUNCH], LONDON) is None


def test_the_nearest_window_with_room() -> None:
    taken = [Span(at("2026-11-23T13:00"), at("2026-11-23T13:22"))]
    found = free_window(at("2026-11-23T11:50"), timedelta(minutes=30), [LUNCH], taken, LONDON)
    assert found is not None
    assert local(found) == "Mon 23 13:25"
    always = Quiet("1234567", 0, 1440, "never")
    assert free_window(at("2026-11-23T11:50"), timedelta(minutes=1), [always], [], LONDON) is None
    assert longest_window(at("2026-11-23T11:50"), [LUNCH], taken, LONDON) == timedelta(minutes=10)
    assert longest_window(at("2026-11-23T12:10"), [LUNCH], [], LONDON) == timedelta(0)
    for start, minutes in (("12:59", 1), ("13:00", 0), ("13:21", 0), ("13:22", 24 * 60 - 82)):
        found = longest_window(at(f"2026-11-23T{start}"), [LUNCH], taken, LONDON)
        assert found == timedelta(minutes=0 if start < "13:00" else minutes), start


def test_clashes() -> None:
    daily = spans(at("2026-11-23T09:00"), "FREQ=DAILY", LONDON, timedelta(hours=1), at("2026-11-23T00:00"))
    assert len(daily) == 28
    once = Span(at("2026-11-30T09:59"), at("2026-11-30T10:30"))
    hit = clash([once], daily)
    assert hit is not None
    assert local(hit[1].start) == "Mon 30 09:00"
    assert clash([Span(at("2026-11-30T10:00"), at("2026-11-30T10:30"))], daily) is None


@given(
    st.integers(0, 7 * 24 * 60),
    st.integers(1, 600),
    st.lists(st.tuples(st.integers(0, 1380), st.integers(1, 60)), max_size=4),
)
def test_a_free_window_is_free_and_the_wanted_one_is_kept_if_it_can_be(
    minute: int, length: int, quiet: list[tuple[int, int]]
) -> None:
    hours = [Quiet("135", start, start + lasts, "") for start, lasts in quiet]
    wanted = at("2026-11-23T00:00") + timedelta(minutes=minute)
    long = timedelta(minutes=length)
    found = free_window(wanted, long, hours, [], LONDON)
    if found is not None:
        assert quiet_span(Span(found, found + long), hours, LONDON) is None
        assert found >= wanted.astimezone(UTC)
    if quiet_span(Span(wanted, wanted + long), hours, LONDON) is None:
        assert found == wanted.astimezone(UTC)


RULES = ("FREQ=DAILY", "FREQ=HOURLY;INTERVAL=5", "FREQ=WEEKLY;BYDAY=MO,WE,SU", "FREQ=MONTHLY;BYMONTHDAY=1,15")


@given(st.sampled_from(RULES), st.integers(0, 366 * 24 * 60), st.integers(0, 90))
def test_starts_rise_and_lie_after_what_was_asked(rule: str, minute: int, days_later: int) -> None:
    start = at("2026-01-01T00:00") + timedelta(minutes=minute)
    after = start + timedelta(days=days_later)
    found = list(islice(occurrences(start, rule, LONDON, after), 20))
    assert all(f > after for f in found)
    assert found == sorted(found)
    assert next_start(start, rule, LONDON, after) == (found[0] if found else None)


@given(st.integers(0, 366 * 24 * 60), st.sampled_from(["Europe/London", "America/New_York", "Asia/Kolkata", "UTC"]))
def test_a_daily_start_keeps_its_wall_clock_time(minute: int, name: str) -> None:
    """But on the day whose clock change skips it."""
    zone = ZoneInfo(name)
    start = datetime(2026, 1, 1, tzinfo=zone) + timedelta(minutes=minute)
    wall = start.strftime("%H:%M")
    found = islice(occurrences(start, "FREQ=DAILY", zone, start), 200)
    other = [f for f in found if f.astimezone(zone).strftime("%H:%M") != wall]
    assert len(other) <= 1


def test_quiet_hours_that_reach_midnight() -> None:
    hit = quiet_span(Span(at("2026-11-23T23:30"), at("2026-11-24T00:30")), [NIGHT], LONDON)
    assert hit is not None
    assert local(hit[0].end) == "Tue 24 00:00"
    assert quiet_span(Span(at("2026-11-24T00:00"), at("2026-11-24T00:30")), [NIGHT], LONDON) is None
