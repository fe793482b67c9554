"""What is usual: steps of the route, baselines by hour, and the site's own clock."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import analyse
from tarnfell.core.days.baseline import baseline_of
from tarnfell.core.days.blocks import blocks_of
from tarnfell.core.days.calm import calm_of
from tarnfell.core.days.local import day_and_minute, day_name, weekday
from tarnfell.core.days.steps import SIDE, _peaks
from tarnfell.core.quality import criterion_for
from tests.core.days.weeks import LONDON, Week, hours

CRITERION = criterion_for(find_codec("g711a"), 20)


@pytest.mark.parametrize(("leg", "by_ms", "places"), [("line", 40, 4), ("beyond", 6, 3), ("far", -9, 1)])
def test_another_route_is_a_step_at_its_minute_and_no_episode(leg: str, by_ms: float, places: int) -> None:
    week = Week(3, days=2, interval_s=2.0)
    week.reroutes(hours(0, 15), by_ms, leg)
    told = analyse(week.rounds(), CRITERION, 4.0, LONDON)
    assert len(told.steps) == places
    for step in told.steps:
        assert week.since(step.at_us) == pytest.approx(hours(0, 15), abs=60)
        assert step.by_ms == pytest.approx(by_ms, abs=0.6)
    assert told.episodes == ()
    (one,) = told.findings
    assert (one.key, one.leg) == ("route-changed", "line" if leg == "line" else "beyond")
    assert f"{'rose' if by_ms > 0 else 'fell'} by {abs(by_ms):.0f}." in one.says


def test_two_changes_of_the_route_are_told_as_two() -> None:
    week = Week(3, days=3, interval_s=2.0)
    week.reroutes(hours(0, 15), 40, "line")
    week.reroutes(hours(1, 20), -40, "line")
    told = analyse(week.rounds(), CRITERION, 4.0, LONDON)
    assert [(one.key, "rose by 40." in one.says) for one in told.findings] == [
        ("route-changed", True), ("route-changed", False),
    ]  # fmt: skip


@pytest.mark.parametrize(("minutes", "seen"), [(9, 0), (10, 4)])
def test_a_level_is_one_that_ten_minutes_held(minutes: int, seen: int) -> None:
    week = Week(3, days=1, interval_s=2.0)
    week.reroutes(minutes * 60, 40, "line")
    assert len(calm_of(week.rounds()).steps) == seen


@pytest.mark.parametrize(("by_ms", "seen"), [(7, 0), (9, 4)])
def test_a_step_is_four_times_what_levels_vary_by(by_ms: float, seen: int) -> None:
    week = Week(3, days=2, interval_s=2.0)
    week.rtt[1:] += 2.0 * (week.at_s // 60 % 2)  # from one minute to the next
    week.reroutes(hours(0, 15), by_ms, "line")
    assert len(calm_of(week.rounds()).steps) == seen


def test_what_only_a_router_has_for_itself_is_no_step_of_the_way() -> None:
    week = Week(3, days=2, interval_s=2.0)
    week.rtt[1, week.among(hours(0, 15), hours(2, 0))] += 20
    assert calm_of(week.rounds()).steps == ()


def test_a_level_that_is_left_again_within_hours_was_trouble() -> None:
    week = Week(3, days=2, interval_s=2.0)
    part = week.among(hours(0, 15), hours(0, 16))
    week.rtt[1:, part] += 90
    told = analyse(week.rounds(), CRITERION, 4.0, LONDON)
    assert told.steps == ()
    assert [(one.leg, one.kind) for one in told.episodes] == [("line", "delay")]
    for ramp in (np.linspace(90, 0, 750), np.linspace(0, 90, 750)):
        slowly = Week(3, days=2, interval_s=2.0)
        slowly.rtt[1:, slowly.among(hours(0, 15), hours(0, 16))] += 90
        from_s = hours(0, 16) if ramp[0] else hours(0, 15) - 1500
        slowly.rtt[1:, slowly.among(from_s, from_s + 1500)] += ramp
        told = analyse(slowly.rounds(), CRITERION, 4.0, LONDON)
        assert told.steps == ()
        assert [(one.leg, one.kind) for one in told.episodes] == [("line", "delay")]
    for_a_day = Week(3, days=2, interval_s=2.0)
    for_a_day.rtt[1:, for_a_day.among(hours(0, 15), hours(0, 22))] += 90
    assert [round(step.by_ms) for step in calm_of(for_a_day.rounds()).steps if step.place == 4] == [90, -90]


def test_a_daily_squeeze_is_not_its_own_measure() -> None:
    week = Week(3, days=7, interval_s=10.0)
    for day in range(7):
        week.queues("inside", hours(day, 12), 3600, 200)
    assert np.nanmax(calm_of(week.rounds()).level_ms[4]) < 34


@pytest.mark.parametrize(
    ("days", "by", "forming"),
    [(1, "all hours", True), (2, "hour of the day", True), (6, "hour of the day", True),
     (7, "hour of the week", False), (8, "hour of the week", False)],
)  # fmt: skip
def test_a_baseline_says_what_it_rests_on(days: int, by: str, forming: bool) -> None:
    week = Week(1, days=days, interval_s=20.0)
    week.rtt[0, week.among(hours(0, 9), hours(0, 10))] += 10
    base = baseline_of(blocks_of(week.rounds()), 0, LONDON)
    assert (base.by, base.forming, base.days) == (by, forming, days)
    if days > 1:
        assert (base.median_ms[9] > base.median_ms[33] + 4) == (by == "hour of the week")  # Monday's and Tuesday's nine
    else:
        assert base.median_ms[9] == base.median_ms[3]
    assert 0 < base.mad_ms[3] < 0.5


def test_a_place_that_never_answered_has_no_baseline() -> None:
    week = Week(1, days=1, interval_s=20.0)
    week.muted(0)
    base = baseline_of(blocks_of(week.rounds()), 0, LONDON)
    assert base.days == 0
    assert np.all(np.isnan(base.median_ms))


def test_days_are_the_sites_own_also_where_clocks_change() -> None:
    """Sunday 29 March 2026 has 23 hours in London; at Kathmandu the day begins at a quarter past."""
    at = [datetime(2026, 3, 29, h, m, tzinfo=UTC) for h, m in ((0, 59), (1, 0), (22, 59), (23, 0))]
    us = np.array([int(one.timestamp() * 1e6) for one in at])
    days, minutes = day_and_minute(us, LONDON)
    assert minutes.tolist() == [59, 120, 1439, 0]
    assert [day_name(int(day)) for day in days] == ["2026-03-29"] * 3 + ["2026-03-30"]
    assert weekday(days).tolist() == [6, 6, 6, 0]
    days, minutes = day_and_minute(us[:1], ZoneInfo("Asia/Kathmandu"))
    assert minutes.tolist() == [6 * 60 + 44]


def test_blocks_have_the_quantiles_of_their_minute() -> None:
    week = Week(1, days=1)
    week.lost[0, :60] = True
    rounds = week.rounds()
    blocks = blocks_of(rounds)
    assert blocks.answered[0, 0] == 0
    assert np.isnan(blocks.quantile(0, 0.5)[0])
    known = rounds.rtt_ms[4, 60:120]
    for share in (0.0, 0.25, 0.5, 1.0):
        assert blocks.quantile(4, share)[1] == pytest.approx(np.nanpercentile(known, 100 * share))
    seldom = Week(1, days=1, interval_s=60.0)
    assert blocks_of(seldom.rounds()).block_us == 300_000_000


def test_far_away_is_told_by_the_delay_alone() -> None:
    week = Week(1, days=1, interval_s=5.0)
    week.rtt[4] += 560
    told = analyse(week.rounds(), CRITERION, 4.0, LONDON)
    assert [one.key for one in told.findings] == ["far-away"]
    assert "375 ms from mouth to ear" in told.findings[0].says or "376 ms" in told.findings[0].says
    assert analyse(week.rounds(), CRITERION, 3.0, LONDON).findings == ()


def test_only_the_far_end_is_too_far_away() -> None:
    """Calls go nowhere else, however far that is."""
    week = Week(1, days=1, interval_s=5.0)
    week.rtt[3] += 560
    assert week.rounds().places[3].role == "outside"
    assert [one.key for one in analyse(week.rounds(), CRITERION, 4.0, LONDON).findings] == []


def test_steps_as_near_as_half_a_side_are_one() -> None:
    jump = np.arange(100, dtype=float)
    for apart, peaks in ((SIDE // 2, [10 + SIDE // 2]), (SIDE // 2 + 1, [10, 11 + SIDE // 2])):
        is_step = np.zeros(100, bool)
        is_step[[10, 10 + apart]] = True
        assert _peaks(is_step, jump).tolist() == peaks
