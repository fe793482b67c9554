"""What comes back at a time of day, on how many days; and what only seems to."""

from __future__ import annotations

from datetime import datetime

import numpy as np
import pytest

from tarnfell.core.days.blame import Kind
from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.recurrence import LEAST_DAYS, Recurrence, _tails, clock, recurrences_of
from tarnfell.core.days.rounds import Place, Rounds
from tests.core.days.weeks import LONDON, MONDAY

FAR = Place("far-end", "203.0.113.10")


def watched(days: int, hours: tuple[int, int] = (0, 24), without: tuple[int, ...] = ()) -> Rounds:
    at_s = np.arange(0, days * 86_400, 300)
    hour = at_s / 3600 % 24
    at_s = at_s[(hour >= hours[0]) & (hour < hours[1]) & ~np.isin(at_s // 86_400, without)]
    at = (MONDAY.timestamp() * 1e6 + at_s * 1e6).astype(np.int64)
    return Rounds((FAR,), at, np.ones((1, len(at)), bool), np.ones((1, len(at))), 300_000_000)


def episode(day: int, minute: float, lasts_min: float = 8, leg: str = "line", kind: Kind = "outage") -> Episode:
    begin = int(MONDAY.timestamp() * 1e6 + (day * 1440 + minute) * 60e6)
    return Episode(
        begin, begin + int(lasts_min * 60e6), leg, kind, 0.99, {}, FAR, 10, 100.0, 0.0, None, None, 1.0, None, ()  # type: ignore[arg-type]
    )  # fmt: skip


def found(episodes: list[Episode], rounds: Rounds) -> list[Recurrence]:
    return recurrences_of(episodes, rounds, LONDON)


def test_on_five_of_seven_nights() -> None:
    nights = [(0, 68), (1, 71), (3, 70), (4, 69), (6, 75)]
    (one,) = found([episode(*night) for night in nights], watched(7))
    assert (one.leg, one.days, one.of, one.kind_of_days) == ("line", 5, 7, "days")
    assert (clock(one.from_minute), clock(one.until_minute)) == ("01:08", "01:23")
    assert one.says == (
        "On 5 of 7 nights between 01:08 and 01:23, on the line (by chance alone: less than 1 in 1 000)."
    )
    assert one.p <= 0.001


def test_days_that_were_not_watched_are_not_counted_against_it() -> None:
    nights = [(0, 68), (1, 71), (4, 69), (6, 75)]
    (one,) = found([episode(*night) for night in nights], watched(7, without=(2, 3)))
    assert (one.days, one.of) == (4, 5)


def test_at_noon_of_weekdays() -> None:
    (one,) = found([episode(day, 720 + 9 * (day % 3), 40, "inside") for day in (0, 1, 2, 3, 4, 7, 8)], watched(14))
    assert (one.days, one.of, one.kind_of_days) == (7, 10, "weekdays")
    assert "weekdays between 12:00 and 12:58, inside the site" in one.says


def test_on_one_day_of_the_week() -> None:
    (one,) = found([episode(day, 600) for day in (1, 8, 15, 22)], watched(28))
    assert (one.days, one.of, one.kind_of_days) == (4, 4, "Tuesday")


def test_over_midnight_the_night_is_one() -> None:
    (one,) = found([episode(0, 1438), episode(2, 3), episode(4, 1), episode(5, 1437), episode(7, 2)], watched(8))
    assert (one.days, one.of) == (5, 8)
    assert (clock(one.from_minute), clock(one.until_minute)) == ("23:57", "00:11")
    assert "nights" in one.says


@pytest.mark.parametrize("seed", range(8))
def test_what_falls_at_random_does_not_come_back(seed: int) -> None:
    chance = np.random.default_rng(seed)
    assert found([episode(day, float(chance.uniform(0, 1430))) for day in range(7) for _ in range(2)], watched(7)) == []


@pytest.mark.parametrize("seed", range(8))
def test_hours_that_alone_were_watched_are_no_pattern(seed: int) -> None:
    """A laptop that is on from nine to twelve can only see trouble then."""
    chance = np.random.default_rng(seed)
    assert found([episode(day, float(chance.uniform(540, 715))) for day in range(7)], watched(7, (9, 12))) == []


def test_twice_is_no_pattern_and_legs_do_not_add_up() -> None:
    assert found([episode(0, 68), episode(3, 68)], watched(7)) == []
    mixed = [episode(0, 68), episode(1, 68, leg="inside"), episode(2, 68), episode(3, 68, leg="inside")]
    assert found(mixed, watched(7)) == []


def test_two_patterns_of_one_leg_are_both_told() -> None:
    both = [episode(day, 68) for day in range(5)] + [episode(day, 900, 20) for day in range(7)]
    assert [(one.days, clock(one.from_minute)) for one in found(both, watched(7))] == [(7, "15:00"), (5, "01:08")]


def test_hours_that_days_agree_on_count_the_days_that_have_them() -> None:
    """Trouble that begins at any time of the morning and fills it, on seven of ten days."""
    begins = (300, 480, 660, 390, 570, 430, 620)
    (one,) = found([episode(day, minute, 480) for day, minute in enumerate(begins)], watched(10))
    assert (one.days, one.of, clock(one.from_minute), clock(one.until_minute)) == (7, 10, "08:00", "16:10")


def test_local_time_rules_where_clocks_change() -> None:
    """At three by the site's clock, before and after the last Sunday of March."""
    days = [datetime(2026, 3, day, 3, 5, tzinfo=LONDON) for day in (26, 27, 28, 30, 31)]
    start = datetime(2026, 3, 25, tzinfo=LONDON)
    at = np.arange(int(start.timestamp()), int(start.timestamp()) + 8 * 86_400, 300) * 1_000_000
    rounds = Rounds((FAR,), at, np.ones((1, len(at)), bool), np.ones((1, len(at))), 300_000_000)
    shifted = [episode(0, (day.timestamp() - MONDAY.timestamp()) / 60) for day in days]
    (one,) = found(shifted, rounds)
    assert (one.days, clock(one.from_minute)) == (5, "03:05")


def test_what_comes_back_within_hours_told_already_is_not_told_again() -> None:
    mornings = [episode(day, 420 + day, 300) for day in range(7)]

    def told(start: float, lasts: float, days: range, leg: str = "line") -> list[str]:
        later = [episode(day, start + day, lasts, leg) for day in days]
        return [clock(one.from_minute) for one in found([*mornings, *later], watched(7))]

    assert told(600, 8, range(5)) == ["07:00"]
    assert told(600, 8, range(5), "inside") == ["07:00", "10:00"]
    # The mornings end at 12:06; of two hours it must be half.
    assert told(664, 116, range(5)) == ["07:00"]
    assert told(670, 116, range(5)) == ["07:00", "11:10"]
    # On more days than the hours around it: it is trouble of its own.
    few = [episode(day, 420 + day, 300) for day in range(4)]
    (one, other) = found([*few, *(episode(day, 600 + day, 8) for day in range(7))], watched(7))
    assert {(one.days, clock(one.from_minute)), (other.days, clock(other.from_minute))} == {(7, "10:00"), (4, "07:00")}


def test_a_chance_is_told_of_days_that_are_enough_only() -> None:
    few, enough = LEAST_DAYS - 1, LEAST_DAYS
    log_p = _tails(np.array([[few, enough, few]]), np.array([7, 7, few]), np.array([0.5]))
    assert np.isinf(log_p).tolist() == [[True, False, True]]
    # The binomial chance of three days or more of seven, each of them likely by a half: 99 of 128.
    assert np.exp(_tails(np.array([[3]]), np.array([7]), np.array([0.5])))[0, 0] == pytest.approx(99 / 128)


def test_a_night_that_is_mostly_past_midnight_is_one_too() -> None:
    (one,) = found([episode(0, 1425), episode(2, 12), episode(4, 14), episode(5, 1430), episode(7, 10)], watched(8))
    assert (one.days, one.of) == (5, 7)
    assert (clock(one.from_minute), clock(one.until_minute)) == ("23:45", "00:22")
