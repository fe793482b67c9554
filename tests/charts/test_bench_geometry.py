"""Geometry of the minute bench and of days, called through node as the drawings call it."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime
from typing import Any

import pytest

from tests.charts.test_geometry import js

HOUR = 3_600_000_000


def bench(name: str, *given: Any) -> Any:
    return js("bench-geometry", name, *given)


def us(*when: int) -> int:
    return int(datetime(*when, tzinfo=UTC).timestamp() * 1e6)  # type: ignore[arg-type,misc]


def test_time_runs_from_the_left_margin_to_the_edge() -> None:
    assert bench("xOf", 100, 100, 300) == 150
    assert bench("xOf", 300, 100, 300) == 1180
    assert bench("xOf", 200, 100, 300) == 665


def test_a_lane_is_as_deep_as_all_but_its_longest_answers() -> None:
    assert bench("depthOf", [3.0, 4.9, None]) == 5
    assert bench("depthOf", [5.1, None]) == 10
    assert bench("depthOf", [8.0] * 99 + [900.0]) == 10
    assert bench("depthOf", [8.0] * 45 + [900.0] * 5) == 1000
    assert bench("depthOf", []) == 1
    assert bench("depthOf", [99_999.0] * 3) == 10_000


def test_what_was_not_answered_and_what_was_not_sampled_part_a_line() -> None:
    at = [0, 10, 20, 30, 100, 110]
    assert bench("stretchesOf", at, [1, 1, None, 1, 1, 1], 50) == [[0, 1], [3, 3], [4, 5]]
    assert bench("stretchesOf", at, [1, 1, None, 1, 1, 1], 70) == [[0, 1], [3, 5]]
    assert bench("stretchesOf", at, [None] * 6, 50) == []


@pytest.mark.parametrize(("span_h", "step_h"), [(0.2, 1 / 60), (1, 1 / 12), (6, 0.5), (24, 2), (24 * 7, 24)])
def test_labels_stand_on_whole_steps_of_the_sites_clock(span_h: float, step_h: float) -> None:
    start = us(2026, 3, 2, 9, 7, 13)
    offset = 5.75 * HOUR  # Kathmandu
    ticks = bench("ticksOf", start, start + span_h * HOUR, "Asia/Kathmandu")
    assert 4 <= len(ticks) <= 13
    assert {b - a for a, b in itertools.pairwise(ticks)} == {round(step_h * HOUR)}
    assert all((tick + offset) % round(step_h * HOUR) == 0 for tick in ticks)
    assert start <= ticks[0] < start + step_h * HOUR


def test_days_are_labelled_where_they_begin_also_after_clocks_changed() -> None:
    """In London they do so on 25 October 2026."""
    ticks = bench("ticksOf", us(2026, 10, 23), us(2026, 10, 28, 12), "Europe/London")
    assert ticks[1:6:2] == [us(2026, 10, 23, 23), us(2026, 10, 24, 23), us(2026, 10, 26)]
    ticks = bench("ticksOf", us(2026, 10, 20), us(2026, 10, 30), "Europe/London")
    assert ticks[4:7] == [us(2026, 10, 24, 23), us(2026, 10, 26), us(2026, 10, 27)]
    # The next day would begin half an hour after what is shown.
    ticks = bench("ticksOf", us(2026, 10, 20), us(2026, 10, 29, 23, 30), "Europe/London")
    assert ticks[-1] == us(2026, 10, 29)


def test_the_sites_clock_is_ahead_by_its_zone() -> None:
    assert bench("offsetOf", us(2026, 3, 2, 12), "Europe/London") == 0
    assert bench("offsetOf", us(2026, 7, 2, 12), "Europe/London") == HOUR
    assert bench("offsetOf", us(2026, 7, 2, 23, 59), "Asia/Kathmandu") == 5.75 * HOUR
    assert bench("offsetOf", us(2026, 1, 1, 0, 30) + 400_000, "America/New_York") == -5 * HOUR


def test_zoom_keeps_the_middle_and_moves_keep_the_length() -> None:
    span = {"from": 100, "until": 200}
    assert bench("zoomed", span, 20, 1000) == {"from": 140, "until": 160}
    assert bench("moved", span, 0.5, 1000) == {"from": 150, "until": 250}
    assert bench("moved", span, -0.5, 1000) == {"from": 50, "until": 150}


def test_nothing_is_shown_of_after_the_newest_sample() -> None:
    span = {"from": 100, "until": 200}
    assert bench("zoomed", span, 300, 210) == {"from": -90, "until": 210}
    assert bench("zoomed", span, 20, 155) == {"from": 135, "until": 155}
    assert bench("moved", span, 0.5, 210) == {"from": 110, "until": 210}
    # Where it already reaches past it, nothing moves, and earlier goes on as ever.
    assert bench("moved", span, 0.5, 190) == span
    assert bench("moved", span, -0.5, 190) == {"from": 50, "until": 150}


@pytest.mark.parametrize(
    ("opens", "closes", "days", "day", "marks"),
    [
        (480, 1080, "12345", "2026-03-02", [[480, 4], [1080, -4]]),  # a Monday
        (480, 1080, "12345", "2026-03-01", []),
        (1320, 360, "12345", "2026-03-02", [[1320, 4]]),  # over night: Sunday's did not open
        (1320, 360, "12345", "2026-03-03", [[360, -4], [1320, 4]]),
        (1320, 360, "12345", "2026-03-07", [[360, -4]]),
        (1320, 360, "7", "2026-03-02", [[360, -4]]),
    ],
)
def test_business_hours_open_and_close(opens: int, closes: int, days: str, day: str, marks: list[list[int]]) -> None:
    hours = {"open_minute": opens, "close_minute": closes, "open_days": days}
    assert js("day-geometry", "openings", hours, day) == marks


@pytest.mark.parametrize(
    ("days", "begins", "ends", "day", "spans"),
    [
        ("1", 960, 1080, "2026-03-02", [[960, 1080]]),  # a Monday
        ("1", 960, 1080, "2026-03-03", []),
        ("1", 1320, 360, "2026-03-02", [[1320, 1440]]),  # over midnight: of the day it begins on
        ("1", 1320, 360, "2026-03-03", [[0, 360]]),
        ("12", 1320, 360, "2026-03-03", [[0, 360], [1320, 1440]]),
        ("7", 1320, 360, "2026-03-02", [[0, 360]]),
        ("1", 1320, 0, "2026-03-03", []),
    ],
)
def test_hours_without_load_lie_on_their_days(
    days: str, begins: int, ends: int, day: str, spans: list[list[int]]
) -> None:
    weekly = [{"days": days, "from_minute": begins, "to_minute": ends}]
    assert js("day-geometry", "spansOf", weekly, day) == spans


def test_normal_is_by_the_hour_of_the_week_at_the_site() -> None:
    medians: list[float | None] = [20.0] * 168
    mads: list[float | None] = [1.0] * 168
    medians[9], mads[9] = 30.0, 2.0  # Monday, 9 to 10
    medians[11] = None
    monday = us(2026, 7, 6, 7, 45)  # 8:45 in London, which is an hour ahead
    told = bench("normalOf", {"from": monday, "until": monday + 4 * HOUR}, "Europe/London", medians, mads)
    assert [((one["from"] - monday) / HOUR, (one["until"] - monday) / HOUR) for one in told] == [
        (0, 0.25), (0.25, 1.25), (1.25, 2.25), (3.25, 4),
    ]  # fmt: skip
    assert [(one["low"], one["high"]) for one in told] == [
        pytest.approx((20 - spread, 20 + spread)) if n != 1 else pytest.approx((30 - 2 * spread, 30 + 2 * spread))
        for n, spread in enumerate([3 * 1.4826] * 4)
    ]
    half = bench(
        "normalOf", {"from": us(2026, 7, 6, 3, 0), "until": us(2026, 7, 6, 5, 0)}, "Asia/Kolkata", medians, mads
    )
    assert [(one["from"] - us(2026, 7, 6, 3, 30)) / HOUR for one in half[1:2]] == [0]  # 9:00 there
    (low,) = bench("normalOf", {"from": monday, "until": monday + 60_000_000}, "Europe/London", [1.0] * 168, mads)
    assert low["low"] == 0


@pytest.mark.parametrize(
    ("at", "zone", "day", "minute"),
    [
        (us(2026, 7, 3, 22, 59), "Europe/London", "2026-07-03", 1439),
        (us(2026, 7, 3, 23, 0), "Europe/London", "2026-07-04", 0),
        (us(2026, 1, 3, 23, 0), "Europe/London", "2026-01-03", 1380),
        (us(2026, 1, 3, 20, 0), "Asia/Kolkata", "2026-01-04", 90),
    ],
)
def test_a_moment_is_told_by_the_sites_clock(at: int, zone: str, day: str, minute: int) -> None:
    assert bench("momentOf", at, zone) == {"day": day, "minute": minute}
