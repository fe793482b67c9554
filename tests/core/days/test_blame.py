"""Whose leg it was, by neighbours; and that it is not told where an end did not."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import Analysis, analyse
from tarnfell.core.days.rounds import Rounds
from tarnfell.core.quality import criterion_for
from tests.core.days.weeks import LONDON, PLACES, Week

CRITERION = criterion_for(find_codec("g711a"), 20)


def hour(make: Callable[[Week], None], keep: tuple[int, ...] = (0, 1, 2, 3, 4)) -> Analysis:
    """Of an hour and a half of samples, of some of the places only."""
    week = Week(7, days=1)
    make(week)
    rounds = week.rounds()
    part = slice(0, 5400)
    rows = list(keep)
    return analyse(
        Rounds(
            tuple(PLACES[i] for i in rows), rounds.at_us[part], rounds.sent[rows][:, part],
            rounds.rtt_ms[rows][:, part], rounds.interval_us,
        ), CRITERION, 4.0, LONDON,
    )  # fmt: skip


def leg(told: Analysis) -> list[tuple[str, str]]:
    return [(one.leg, one.kind) for one in told.episodes]


@pytest.mark.parametrize(
    ("where", "keys"),
    [
        ("inside", {"inside-down", "inside-congested", "inside-cable"}),
        ("line", {"line-down", "delay-swings", "line-loss"}),
        ("beyond", {"beyond-down", "beyond-congested", "beyond-loss"}),
        ("far", {"beyond-down", "beyond-congested", "beyond-loss"}),
    ],
)
def test_each_kind_on_each_leg_has_its_cause(where: str, keys: set[str]) -> None:
    def make(week: Week) -> None:
        week.outage(where, 600, 120)
        week.queues(where, 1800, 600, 200)
        week.loses(where, 3600, 900, 0.2)

    told = hour(make)
    name = "beyond" if where == "far" else where
    assert leg(told) == [(name, "outage"), (name, "delay"), (name, "loss")]
    assert {one.key for one in told.findings} == keys
    assert min(one.certainty for one in told.episodes) > 0.9
    outage, queue, loss = told.episodes
    assert (outage.loss_pct, outage.added_ms, outage.mos) == (100, None, 1)
    assert 120 < (queue.added_ms or 0) < 200
    assert 15 < loss.loss_pct < 25
    assert outage.until_us - outage.from_us == 120_000_000


def test_a_slow_edge_is_not_blamed_and_hides_nothing() -> None:
    def make(week: Week) -> None:
        week.slow_edge()
        week.queues("far", 600, 900, 200)
        week.queues("line", 3000, 900, 200)

    told = hour(make)
    assert leg(told) == [("beyond", "delay"), ("line", "delay")]
    ((key, says),) = [(one.key, one.says) for one in told.not_faults]
    assert key == "hop-slow"
    assert says.startswith("The provider’s edge (198.51.100.1) answers slowly for itself (")


def test_without_a_gateway_that_answers_inside_and_line_are_not_told_apart() -> None:
    def make(week: Week) -> None:
        week.gateway_muted()
        week.outage("line", 600, 120)
        week.outage("far", 3000, 120)

    told = hour(make)
    assert leg(told) == [("inside or line", "outage"), ("beyond", "outage")]
    keys = [one.key for one in told.findings]
    assert sorted(keys) == ["beyond-down", "evidence-short"]
    (short,) = [one for one in told.findings if one.key == "evidence-short"]
    assert "The gateway did not answer" in short.says
    assert short.remedy == "Sample an address that answers for the gateway."
    assert [one.key for one in told.not_faults] == ["echo-muted"]
    assert leg(hour(make, keep=(1, 2, 3, 4))) == leg(told)  # as if it was never asked


def test_without_an_edge_what_all_beyond_share_is_not_told_apart() -> None:
    def line(week: Week) -> None:
        week.outage("line", 600, 120)

    def far(week: Week) -> None:
        week.outage("far", 600, 120)

    def inside(week: Week) -> None:
        week.outage("inside", 600, 120)

    keep = (0, 2, 3, 4)
    assert leg(hour(line, keep)) == [("unknown", "outage")]
    assert leg(hour(far, keep)) == [("beyond", "outage")]
    assert leg(hour(inside, keep)) == [("inside", "outage")]
    assert leg(hour(line, (0, 4))) == [("unknown", "outage")]


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("where", ["inside", "line", "beyond"])
def test_loss_that_never_ends_is_on_its_leg_too(where: str, seed: int) -> None:
    """Ten minutes, and nothing but trouble in them: there is no other time to compare with."""
    week = Week(seed, days=1)
    week.loses(where, 0, 600, 0.1)
    rounds = week.rounds()
    own = slice(0, 600)
    told = analyse(
        Rounds(
            rounds.places, rounds.at_us[own], rounds.sent[:, own], rounds.rtt_ms[:, own], rounds.interval_us
        ), CRITERION, 4.0, LONDON,
    )  # fmt: skip
    assert {one.leg for one in told.episodes} == {where}
    assert told.not_faults == ()


def test_an_outside_address_alone_is_no_trouble_of_the_way() -> None:
    def make(week: Week) -> None:
        week.lost[2, 600:900] = True
        week.rtt[3, 1200:1500] += 300

    assert leg(hour(make)) == []


def test_without_a_far_end_the_farthest_places_stand_for_it() -> None:
    def make(week: Week) -> None:
        week.lost[2, 600:900] = True  # one of the two
        week.outage("beyond", 2000, 60)

    told = hour(make, (0, 1, 2, 3))
    assert [(one.leg, one.end.role) for one in told.episodes] == [("beyond", "outside")]
    assert [(one.leg, one.end.role) for one in hour(lambda w: w.outage("line", 9, 60), (0, 1)).episodes] == [
        ("line", "edge")
    ]
    assert leg(hour(lambda w: w.outage("inside", 9, 60), (0,))) == [("inside", "outage")]


def test_where_the_far_end_was_not_asked_others_tell_of_the_outage() -> None:
    """The session with it ends with the line, and nothing is sent to it then."""
    week = Week(7, days=1)
    week.outage("line", 600, 120)
    rounds = week.rounds()
    sent = rounds.sent.copy()
    sent[4, 603:760] = False
    told = analyse(Rounds(rounds.places, rounds.at_us, sent, rounds.rtt_ms, rounds.interval_us), CRITERION, 4.0, LONDON)
    assert leg(told) == [("line", "outage")]
    assert (told.episodes[0].until_us - told.episodes[0].from_us) == 120_000_000
    assert told.episodes[0].end.role == "outside"


def test_a_far_end_that_never_answered_is_told_and_no_outage_is_made_of_it() -> None:
    told = hour(lambda week: week.muted(4))
    assert told.episodes == ()
    assert [one.key for one in told.findings] == ["service-silent"]
    nobody = hour(lambda week: week.mute.update(range(5)))
    assert leg(nobody) == [("unknown", "outage")]
    assert nobody.episodes[0].rounds == 5400


def test_two_far_ends_tell_what_they_share_once() -> None:
    week = Week(7, days=1)
    week.outage("line", 600, 120)
    week.outage("far", 3000, 120)
    rounds = week.rounds()
    places = (*PLACES, PLACES[4].__class__("far-end", "203.0.113.11"))
    twice = Rounds(
        places, rounds.at_us, np.vstack([rounds.sent, rounds.sent[3:4]]),
        np.vstack([rounds.rtt_ms, rounds.rtt_ms[3:4]]), rounds.interval_us,
    )  # fmt: skip
    told = analyse(twice, CRITERION, 4.0, LONDON)
    assert [(one.leg, one.end.name) for one in told.episodes] == [
        ("line", "203.0.113.10"), ("beyond", "203.0.113.10"),
    ]  # fmt: skip


def test_a_finding_is_as_certain_as_the_least_certain_of_its_times() -> None:
    def fault(week: Week) -> None:
        week.outage("line", 600, 120)
        week.outage("line", 2400, 60)

    told = hour(fault)
    (one,) = [each for each in told.findings if each.key == "line-down"]
    own = min(told.episodes, key=lambda each: each.certainty)
    assert f"on the line (certainty at least {100 * own.certainty:.0f} %)" in one.says
    assert 50 < 100 * own.certainty <= 100
