"""When a rule is kept: thresholds, how long, what ends it, and what time without evidence does."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from tarnfell.core.alerts.rules import Rule, RuleError, checked, sentence
from tarnfell.core.alerts.spells import CallTest, Minutes, Normal, Spell, of_absences, of_minutes, of_tests
from tarnfell.core.days.baseline import USABLE_DAYS
from tarnfell.core.legs import Role

MINUTE = 60_000_000
MONDAY = int(datetime(2026, 11, 2, tzinfo=UTC).timestamp() * 1e6)
LONDON = ZoneInfo("Europe/London")
LOSS = Rule("loss", "gateway", 2.0, 3)


def minutes(lost: str, sent: int = 50, start_us: int = MONDAY, p50_ms: float = 5.0) -> Minutes:
    """A sign a minute: the number of lost ones, ``-`` for no samples."""
    own = [i for i, one in enumerate(lost) if one != "-"]
    counts = np.array([int(lost[i], 36) for i in own], np.int64)
    return Minutes(
        start_us + np.array(own, np.int64) * MINUTE,
        np.full(len(own), sent, np.int64),
        counts,
        np.where(counts < sent, p50_ms, np.nan),
    )


def told(spells: list[Spell]) -> list[tuple[int, int | None]]:
    """In minutes since Monday."""
    return [
        ((one.from_us - MONDAY) // MINUTE, None if one.until_us is None else (one.until_us - MONDAY) // MINUTE)
        for one in spells
    ]


@pytest.mark.parametrize(
    ("lost", "spells"),
    [
        ("0022200000", [(2, 5)]),
        ("001110000", []),  # 2 % is not more than 2 %
        ("002200220", []),  # never three in a row
        ("0022-2000", []),  # a minute without samples: nobody knows
        ("0022-222000", [(5, 8)]),
        ("002220020022", [(2, None)]),  # three good ones in a row never came
        ("00222002000222", [(2, 8), (11, None)]),
        ("002220--0-0000", [(2, 5)]),
        ("00222--------", [(2, None)]),  # silence is no all-clear
        ("222000", [(0, 3)]),
    ],
)
def test_loss_for_three_minutes(lost: str, spells: list[tuple[int, int | None]]) -> None:
    assert told(of_minutes(LOSS, minutes(lost), None, LONDON)) == spells


@pytest.mark.parametrize(
    ("lost", "spells"),
    [
        ("00200", [(0, None)]),
        ("002000", [(0, 3)]),
        ("000", [(0, 1)]),
        ("00-0222", [(0, 1), (4, None)]),
        ("00-", [(0, None)]),
        ("---", []),
    ],
)
def test_a_spell_that_was_on_before_ends_like_any_other(lost: str, spells: list[tuple[int, int | None]]) -> None:
    assert told(of_minutes(LOSS, minutes(lost), None, LONDON, is_on=True)) == spells


def test_a_spell_says_what_was_lost_over_all_of_it() -> None:
    (one,) = of_minutes(LOSS, minutes("0022A200002000"), None, LONDON)
    assert one.value == pytest.approx(100 * 16 / 200)


def test_a_delay_counts_where_somebody_answered() -> None:
    rule = Rule("delay", "far-end", 4.9, 2)
    assert told(of_minutes(rule, minutes("00Y0", sent=34), None, LONDON)) == [(0, None)]  # one minute was silent
    assert told(of_minutes(Rule("delay", "far-end", 5.0, 2), minutes("0000"), None, LONDON)) == []
    (one,) = of_minutes(rule, minutes("000"), None, LONDON)
    assert one.value == 5.0


def test_above_normal_is_by_the_hour_of_the_week_at_the_site() -> None:
    """In summer the site is an hour ahead of UTC: its Tuesday begins at 23:00 on Monday."""
    july = int(datetime(2026, 7, 6, 22, 58, tzinfo=UTC).timestamp() * 1e6)
    median, spread = np.full(168, 100.0), np.full(168, 1.0)
    median[24] = 10.0
    rule = Rule("above-normal", "far-end", minutes=2)
    seen = minutes("0000", start_us=july, p50_ms=20.1)
    normal = Normal(7, median, spread)
    (one,) = of_minutes(rule, seen, normal, LONDON)
    assert (one.from_us - july, one.until_us, one.value, one.usual) == (2 * MINUTE, None, 20.1, 10.0)
    # By ten milliseconds at the least, and by six times the usual scatter.
    assert of_minutes(rule, minutes("0000", start_us=july, p50_ms=19.9), normal, LONDON) == []
    wide = Normal(7, median, np.full(168, 2.0))
    limit = 10 + 6 * 1.4826 * 2
    assert of_minutes(rule, minutes("0000", start_us=july, p50_ms=limit - 0.1), wide, LONDON) == []
    assert len(of_minutes(rule, minutes("0000", start_us=july, p50_ms=limit + 0.1), wide, LONDON)) == 1
    # Six days are no week: what is normal is not known yet.
    assert of_minutes(rule, seen, Normal(6, median, spread), LONDON) == []
    assert of_minutes(rule, seen, None, LONDON) == []


@pytest.mark.parametrize(
    ("mos", "spells"),
    [
        ([4, 3, 4, 3], []),
        ([4, 3, 3, 4, 4, 4], [(1, 3)]),
        ([4, 3, 4, 3, 4, 3], []),
        ([3, 3], [(0, None)]),
        ([3.5, 3.5, 3.5], []),  # not below
        ([3, 4, 3, 4, 4, 3, 3], [(0, 3), (5, None)]),
    ],
)
def test_calls_below_in_two_of_three_tests(mos: list[float], spells: list[tuple[int, int | None]]) -> None:
    rule = Rule("calls-below", limit=3.5, count=2, of=3 if mos[:3] == [3, 4, 3] else 2)
    found = of_tests(rule, [CallTest(MONDAY + i * MINUTE, one) for i, one in enumerate(mos)])
    assert told(found) == spells
    assert all(one.value == 3 for one in found)


def test_spells_of_tests_do_not_overlap() -> None:
    rule = Rule("calls-below", limit=3.5, count=2, of=4)
    found = of_tests(rule, [CallTest(MONDAY + i * MINUTE, one) for i, one in enumerate([3, 3, 4, 4, 4, 3, 4, 3, 4])])
    assert told(found) == [(0, 4), (5, None)]
    rule = Rule("calls-below", limit=3.5, count=3, of=4)
    found = of_tests(rule, [CallTest(MONDAY + i * MINUTE, one) for i, one in enumerate([3, 3, 3, 4, 4, 3, 3])])
    assert told(found) == [(0, 4)]
    found = of_tests(rule, [CallTest(MONDAY + i * MINUTE, one) for i, one in enumerate([3, 4, 3, 3, 4, 3, 3])])
    assert told(found) == [(0, 4), (5, None)]  # the test at 3 counts for both


def test_absences_that_were_long_enough() -> None:
    rule = Rule("offline", minutes=10)
    now = MONDAY + 100 * MINUTE
    found = of_absences(
        rule,
        [(now - 10 * MINUTE, None), (MONDAY, MONDAY + 10 * MINUTE), (MONDAY + MINUTE, MONDAY + 11 * MINUTE - 1)],
        now,
    )
    assert told(found) == [(0, 10), (90, None)]
    assert [one.value for one in found] == [10, 10]
    assert of_absences(rule, [(now - 10 * MINUTE + 1, None)], now) == []


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        (Rule("calls-below", limit=3.8, count=5, of=6), "When calls fall below 3.8 MOS in 5 of 6 tests."),
        (Rule("calls-below", limit=4, count=1, of=1), "When calls fall below 4 MOS in a test."),
        (LOSS, "When the gateway loses more than 2 % for 3 minutes."),
        (Rule("delay", "far-end", 150, 1), "When the round trip to the far end is over 150 ms for a minute."),
        (
            Rule("above-normal", "edge", minutes=10),
            "When the provider’s edge is slower than normal for the hour for 10 minutes.",
        ),
        (Rule("no-samples", minutes=15), "When a watch brings no samples for 15 minutes."),
        (Rule("offline", minutes=10), "When a probe is offline for 10 minutes."),
        (Rule("missed"), "When a planned load is missed."),
    ],
)
def test_a_rule_is_a_sentence(rule: Rule, words: str) -> None:
    assert sentence(checked(rule)) == words


def test_what_a_kind_has_no_use_for_is_left_out() -> None:
    assert checked(Rule("offline", "gateway", 5.0, 10, 2, 3)) == Rule("offline", minutes=10)
    assert checked(Rule("missed", "gateway", 5.0, 10, 2, 3)) == Rule("missed")


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        (Rule("loss", None, 2.0, 3), "Choose the place"),
        (Rule("loss", "gateway", 99.5, 3), "a limit of 0 to 99"),
        (Rule("loss", "gateway", -1, 3), "a limit of 0 to 99"),
        (Rule("delay", "gateway", 0.5, 3), "a limit of 1 to 5000"),
        (Rule("calls-below", limit=4.6, count=1, of=1), "a limit of 1 to 4.5"),
        (Rule("loss", "gateway", 2, 0), "1 to 1440 minutes"),
        (Rule("offline", minutes=1441), "1 to 1440 minutes"),
        (Rule("calls-below", limit=3, count=3, of=2), "1 to 50 tests"),
        (Rule("calls-below", limit=3, count=0, of=2), "1 to 50 tests"),
        (Rule("calls-below", limit=3, count=1, of=51), "1 to 50 tests"),
    ],
)
def test_a_rule_that_cannot_be_is_refused(rule: Rule, words: str) -> None:
    with pytest.raises(RuleError, match=words):
        checked(rule)


def test_all_places_can_be_asked_about() -> None:
    roles: list[Role] = ["gateway", "edge", "outside", "far-end"]
    assert len({sentence(Rule("loss", role, 2, 3)) for role in roles}) == 4


def test_what_is_usual_is_known_from_some_days_on() -> None:
    nothing = np.zeros(168)
    assert [Normal(days, nothing, nothing).usable for days in (USABLE_DAYS - 1, USABLE_DAYS, USABLE_DAYS + 1)] == [
        False, True, True,
    ]  # fmt: skip
