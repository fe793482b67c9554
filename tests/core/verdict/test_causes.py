"""Causes by the closed list: what tells them apart, with a leg only where the figures give one, and who acts."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any, get_args

import pytest

from benchmarks.causes import FAULTS, said_of
from tarnfell.core.causes import CauseKey
from tarnfell.core.verdict.diagnosis import find_causes
from tarnfell.core.verdict.facts import CallFact
from tarnfell.core.verdict.impairments import marking
from tarnfell.core.verdict.readings import MARKING_KEPT_PCT, by_call, read, standing_ms
from tarnfell.core.verdict.requirements import kept_marking_pct
from tests.core.verdict.made_up import (
    BRIEF,
    DAYS,
    FAR,
    LOSS,
    QUEUE,
    SCATTER,
    SILENT,
    cells,
    fact,
    held,
    judged,
    run,
    runs,
    week,
)


@pytest.mark.parametrize(
    ("changes", "key", "direction"),
    [
        ({"up": QUEUE}, "uplink-queue", "up"),
        ({"down": QUEUE}, "downlink-queue", "down"),
        ({"up": LOSS}, "line-loss", "up"),
        ({"up": LOSS, "down": LOSS}, "line-loss", "both"),
        ({"down": SCATTER}, "delay-swings", "down"),
        ({"up": SCATTER, "down": SCATTER}, "delay-swings", "both"),
        (FAR, "far-away", "both"),
        ({"down": SILENT}, "one-way", "down"),
        (SILENT, "udp-blocked", "both"),
        ({"up": {"dscp_kept_pct": 0.0}}, "marking-changed", "up"),
    ],
)
def test_each_trouble_is_one_cause_of_the_closed_list(changes: dict, key: str, direction: str) -> None:
    at = cells()
    evaluation = judged(runs(at[:240]) + runs(at[240:], **changes) if key != "far-away" else week(**changes))
    assert [(c.key, c.direction) for c in evaluation.causes] == [(key, direction)]
    (cause,) = evaluation.causes
    assert key in get_args(CauseKey)
    assert cause.leg == "unknown"
    assert cause.calls_hit == (300 if key == "far-away" else 60)
    assert cause.calls == 300
    assert cause.remedy
    assert cause.alternatives
    assert 0 < len(cause.call_ids) <= 3
    assert any(any(c.isdigit() for c in line) for line in cause.says)


@pytest.mark.parametrize(("lossy", "order"), [(60, ["line-loss", "uplink-queue"]), (20, ["uplink-queue", "line-loss"])])
def test_what_costs_most_comes_first(lossy: int, order: list[str]) -> None:
    at = cells()
    facts = runs(at[:200]) + runs(at[200:240], up=QUEUE) + runs(at[240 : 240 + lossy], down=LOSS)
    readings = read(facts, BRIEF)
    assert [cause.key for cause in find_causes(readings, by_call(readings), [], BRIEF)] == order
    assert [cause.key for cause in judged(facts).causes] == order


@pytest.mark.parametrize("direction", ["up", "down"])
def test_a_queue_tells_what_the_other_direction_of_the_same_calls_had(direction: str) -> None:
    at = cells()
    (cause,) = judged(runs(at[:240]) + runs(at[240:], **{direction: QUEUE})).causes
    told = [one for one in cause.alternatives if one.startswith("The other direction of the same calls gained")]
    assert len(told) == 1
    assert told[0].endswith("it is one direction’s queue.")


def test_a_queue_of_unknown_place_blames_neither_line_nor_far_end() -> None:
    (cause,) = judged(runs(cells()[:200]) + runs(cells()[200:], up=QUEUE)).causes
    told = " ".join([cause.title, *cause.alternatives]).lower()
    assert "somewhere on the path" in told
    assert "not the far end" not in told
    assert "fill the line" not in told


def test_nothing_is_told_of_a_quiet_week() -> None:
    assert judged(week() + held()).causes == []


def two_ways(bad_far: bool, bad_near: bool) -> list[CallFact]:
    """Bad on one way in thirty moments, with a second far end and a second test point measured beside it."""
    facts = runs(cells()[30:])
    for cell in cells()[:30]:
        facts += run(cell, up=QUEUE)
        facts += run(cell, up=QUEUE if bad_far else None, far_end_id=2)
        facts += run(cell, up=QUEUE if bad_near else None, probe_id=2)
    return facts


@pytest.mark.parametrize(
    ("bad_far", "bad_near", "key", "leg"),
    [
        (False, True, "beyond-congested", "beyond"),
        (True, False, "inside-congested", "inside"),
        (True, True, "uplink-queue", "inside or line"),
        (False, False, "uplink-queue", "unknown"),
    ],
)
def test_the_leg_follows_from_who_was_spared_in_the_same_moments(
    bad_far: bool, bad_near: bool, key: str, leg: str
) -> None:
    (cause,) = judged(two_ways(bad_far, bad_near)).causes
    assert (cause.key, cause.leg) == (key, leg)
    assert sum("of the same ten-minute moments" in line for line in cause.alternatives) == 2


@pytest.mark.parametrize(
    ("bad", "leg"), [(0, "beyond"), (3, "beyond"), (4, "unknown"), (19, "unknown"), (21, "inside or line")]
)
def test_another_far_end_must_agree_in_four_of_five_moments(bad: int, leg: str) -> None:
    """It was bad in so many of the thirty, which are moments to compare themselves: spared are 30 − n of 30 + n."""
    facts = runs(cells()[30:])
    for number, cell in enumerate(cells()[:30]):
        facts += run(cell, up=QUEUE) + run(cell, up=QUEUE if number < bad else None, far_end_id=2)
    (cause,) = judged(facts).causes
    assert cause.leg == leg
    assert f"measured in {30 + bad} of the same ten-minute moments, was spared in {30 - bad}." in " ".join(
        cause.alternatives
    )


@pytest.mark.parametrize("other", [{"far_end_id": 2}, {"probe_id": 2}])
@pytest.mark.parametrize("measured", [2, 3])
def test_two_moments_beside_another_way_tell_no_leg(other: dict[str, int], measured: int) -> None:
    facts = runs(cells()[30:])
    for number, cell in enumerate(cells()[:30]):
        facts += run(cell, up=QUEUE) + (run(cell, **other) if number < measured else [])
    (cause,) = judged(facts).causes
    assert (cause.leg == "unknown") == (measured == 2)
    assert ("same ten-minute moments" in " ".join(cause.alternatives)) == (measured == 3)


def test_a_second_test_point_farther_away_is_no_queue() -> None:
    far = {"delay_p50_ms": 90.0, "mouth_to_ear_ms": 170.0, "probe_id": 2}
    facts = week() + runs(cells(), **far)
    assert judged(facts).causes == []
    assert max(r.added_ms or 0 for r in read(facts, BRIEF)) == 0


def test_calls_that_fill_the_line_themselves_are_a_small_line() -> None:
    facts = week() + runs(cells()[::3], calls=4, up=QUEUE)
    (cause,) = judged(facts).causes
    assert (cause.key, cause.direction) == ("uplink-small", "up")
    assert "400 of 400 at 4 or more concurrent calls, 0 of 300 below" in " ".join(cause.says)
    assert "336 kbit/s" in " ".join(cause.alternatives)
    assert "2\u00a0000 kbit/s" in " ".join(cause.alternatives)
    assert "priority cannot create capacity" in cause.remedy


def test_loss_that_follows_the_calls_own_number_is_policing() -> None:
    (cause,) = judged(week() + runs(cells()[::3], calls=4, down=LOSS)).causes
    assert (cause.key, cause.direction) == ("policed", "down")
    assert "400 of 400" in " ".join(cause.says)


def test_loss_that_does_not_follow_it_is_not() -> None:
    bad = runs(cells()[::3], calls=4, down=LOSS) + runs(cells()[1::3], down=LOSS)
    (cause,) = judged(runs(cells()[2::3]) + bad).causes
    assert cause.key == "line-loss"


def test_some_silent_calls_of_a_run_are_ports_and_all_of_them_a_direction() -> None:
    mixed = []
    for cell in cells()[:20]:
        of_run = run(cell, calls=4)
        mixed += [replace(f, **SILENT) if i == 1 else f for i, f in enumerate(of_run)]
    (cause,) = judged(mixed).faults
    assert (cause.key, cause.direction, cause.calls_hit) == ("port-blocked", "down", 20)
    assert cause.who == "Wall & Sons"


def test_the_bound_missed_most_names_the_cause_and_not_what_was_there_besides() -> None:
    """0.07 % of loss beside 160 ms of distance is distance."""
    far = {"mos": 3.9, "delay_p50_ms": 165.0, "mouth_to_ear_ms": 246.0, "loss_pct": 0.07, "received": 1499}
    assert {c.key for c in judged(week(**far)).causes} == {"far-away"}


@pytest.mark.parametrize(
    ("changes", "who"),
    [
        ({"down": SILENT}, "Wall & Sons"),
        ({"up": LOSS}, "Merrow IT, then Coastline Cable"),
        (FAR, "Coastline Cable"),
    ],
)
def test_the_one_who_acts_is_named_from_the_brief(changes: dict, who: str) -> None:
    assert judged(week(**changes)).causes[0].who == who
    nobody = replace(BRIEF, line_by="", switches_by="", firewall_by="")
    assert "whoever" in judged(week(**changes), nobody).causes[0].who or who == "Coastline Cable"


def test_gain_counts_the_calls_that_nothing_else_spoils() -> None:
    at = cells()
    facts = runs(at[:250]) + runs(at[250:290], up=LOSS) + runs(at[290:], up=LOSS, down=QUEUE)
    by_key = {c.key: c for c in judged(facts).causes}
    assert by_key["line-loss"].gain.endswith("40 of 300 calls.")
    assert by_key["downlink-queue"].gain.endswith("0 of 300 calls.")


def test_trouble_in_fewer_than_one_of_two_hundred_calls_is_left_to_the_figures() -> None:
    facts = week() + runs(cells()[:1], up=LOSS)
    assert judged(facts).causes == []
    assert judged(facts + runs(cells()[1:2], up=LOSS)).causes != []
    assert judged(week() + runs(cells()[:1], down=SILENT)).causes != []


def test_a_sliver_beside_a_large_cause_is_no_cause_of_its_own() -> None:
    at = cells()
    facts = runs(at[:100]) + runs(at[100:296], up=QUEUE) + runs(at[296:], up=SCATTER)
    assert [c.key for c in judged(facts).causes] == ["uplink-queue"]


@pytest.mark.parametrize("kind", FAULTS)
def test_simulated_faults_are_named_from_their_packets(kind: str) -> None:
    """Three days each; the table of the method has twenty weeks."""
    found = said_of(kind, 3, days=3).faults
    told = {"quiet": [], "priority-ignored": ["uplink-queue", "priority-ignored"]}
    assert [c.key for c in found] == told.get(kind, [kind])


def test_when_is_told_by_the_shortest_stretch_that_holds_nine_in_ten() -> None:
    lunch = [(day, 720.0 + 10 * i) for day in DAYS[:5] for i in range(6)]
    (cause,) = judged(week() + runs(lunch, up=LOSS)).causes
    assert any("30 of 30 times between 12:00 and 13:00, on 5 days" in line for line in cause.says)


def test_trouble_by_day_and_night_is_told_from_its_first_time_to_its_last() -> None:
    """Nine in ten of it within seventeen hours name the hours; within eighteen, its first and last time."""
    hours = [(day, 60.0 * h + 5) for day in DAYS[1:3] for h in range(24)]
    for shown, told in ((18, "34 of 36 times between 00:00 and 17:00"), (19, "38 times at all hours")):
        spread = [(day, minute) for day, minute in hours if minute < 60 * shown]
        (cause,) = judged(week() + runs(spread, up=LOSS)).causes
        (says,) = [line for line in cause.says if " times " in line]
        assert says.startswith(told), says
    assert f"on 2 days from {DAYS[1]} 00:05 to {DAYS[2]} 18:05;" in says


def test_a_clock_that_was_set_is_not_the_network() -> None:
    evaluation = judged(week() + runs(cells()[:5], tainted=True, clock_set=True))
    (cause,) = evaluation.causes
    assert (cause.key, cause.network, cause.calls_hit) == ("clock-set", False, 5)


# Routes, radio, priority, short evidence

LONGER = {"delay_p50_ms": 150.0, "mouth_to_ear_ms": 231.0, "mos": 3.9}
"""130 ms more than before, next to no variation."""


@pytest.mark.parametrize(("since", "until"), [(150, 300), (0, 150), (100, 200)])
def test_a_longer_route_is_told_from_a_queue_and_from_distance(since: int, until: int) -> None:
    at = cells()
    facts = runs(at[:since]) + runs(at[since:until], up=LONGER) + runs(at[until:])
    (cause,) = judged(facts).causes
    assert (cause.key, cause.direction, cause.leg) == ("route-changed", "up", "unknown")
    assert "130 ms" in cause.title
    assert f"first seen {at[since][0]} {int(at[since][1]) // 60:02d}:{int(at[since][1]) % 60:02d}" in cause.says[0]
    assert f"{until - since} of 300 calls" in cause.says[0]
    assert f"{300 - until + since} of {300 - until + since} directions" in cause.alternatives[1]


@pytest.mark.parametrize(
    "not_a_route",
    [
        {"pdv_p95_ms": 10.1},
        {"loss_pct": 0.6, "received": 1491},
    ],
)
def test_a_level_with_variation_or_loss_is_a_queue(not_a_route: dict) -> None:
    at = cells()
    assert {c.key for c in judged(runs(at[:150]) + runs(at[150:], up={**LONGER, **not_a_route})).causes} == {
        "uplink-queue"
    }


def test_two_moments_at_a_new_level_are_no_route_yet() -> None:
    at = cells()
    keys = [
        [c.key for c in judged(runs(at[: 300 - n]) + runs(at[300 - n :], up={**LONGER, "mos": 1.5})).causes]
        for n in (2, 3)
    ]
    assert keys == [["uplink-queue"], ["route-changed"]]


def test_an_error_of_the_clocks_is_no_route() -> None:
    at = cells()
    apart = runs(at[150:], up={"delay_p50_ms": 80.0}, down={"delay_p50_ms": -40.0})
    assert judged(runs(at[:150]) + apart).causes == []


def test_ten_milliseconds_more_are_the_same_route() -> None:
    at = cells()
    far = {"mouth_to_ear_ms": 231.0, "mos": 3.9}
    for added, key in ((10.0, "far-away"), (10.1, "route-changed")):
        facts = runs(at[:150]) + runs(at[150:], up={**far, "delay_p50_ms": 20.0 + added})
        assert [c.key for c in judged(facts).causes] == [key]


def radio(bad: dict, wireless: bool) -> list[CallFact]:
    """A test point that suffers while one on the cable, in the same moments, does not."""
    facts = runs(cells()[60:])
    for cell in cells()[:60]:
        facts += run(cell, up=bad, wireless=wireless)
        facts += run(cell, probe_id=2)
    return facts


@pytest.mark.parametrize(
    ("bad", "wireless", "key"),
    [
        (LOSS, True, "inside-radio"),
        (LOSS, False, "inside-cable"),
        (SCATTER, True, "inside-radio"),
        (SCATTER, False, "delay-swings"),
    ],
)
def test_radio_is_named_where_every_call_that_suffered_was_on_it(bad: dict, wireless: bool, key: str) -> None:
    (cause,) = judged(radio(bad, wireless)).causes
    assert (cause.key, cause.leg) == (key, "inside")
    assert ("Wi-Fi: measure the signal" in cause.remedy) is wireless


def test_calls_by_radio_alone_tell_no_leg_and_no_radio() -> None:
    (cause,) = judged(runs(cells()[60:]) + runs(cells()[:60], up=LOSS, wireless=True)).causes
    assert (cause.key, cause.leg) == ("line-loss", "unknown")


def marked_and_not(marked_bad: int, moments: int = 10, kept: float = 100.0) -> list[CallFact]:
    facts = runs(cells()[moments:])
    for n, cell in enumerate(cells()[:moments]):
        facts += run(cell, up=QUEUE, dscp_sent=0, dscp_kept_pct=100.0)
        facts += run(cell, up=QUEUE if n < marked_bad else None, dscp_kept_pct=kept)
    return facts


@pytest.mark.parametrize(
    ("marked_bad", "moments", "named"), [(8, 10, True), (7, 10, False), (3, 3, True), (2, 2, False)]
)
def test_priority_is_ignored_where_marked_calls_fare_as_unmarked(marked_bad: int, moments: int, named: bool) -> None:
    causes = {c.key: c for c in judged(marked_and_not(marked_bad, moments)).causes}
    assert ("priority-ignored" in causes) is named
    if named:
        assert f"In {marked_bad} of the {moments} ten-minute moments" in causes["priority-ignored"].says[0]
        assert causes["priority-ignored"].cost == {}


@pytest.mark.parametrize(
    ("kept", "named"), [(0.0, "marking-changed"), (98.9, "marking-changed"), (MARKING_KEPT_PCT, "priority-ignored")]
)
def test_marking_that_did_not_arrive_was_not_ignored(kept: float, named: str) -> None:
    found = {c.key for c in judged(marked_and_not(10, kept=kept)).causes}
    assert found & {"marking-changed", "priority-ignored"} == {named}


@pytest.mark.parametrize(
    ("bad_kept", "kept"),
    [(100.0, 98.0), (MARKING_KEPT_PCT, 98.0), (98.9, 98.45), (40.0, 69.0), (None, 98.0)],
)
def test_a_bad_call_speaks_against_marking_only(bad_kept: float | None, kept: float) -> None:
    """Where its marking arrived it was bad for another reason."""

    def one(good: bool | None, kept: float | None, sent: int = 46) -> Any:
        return SimpleNamespace(good=good, fact=SimpleNamespace(dscp_sent=sent, dscp_kept_pct=kept))

    bad = one(False, bad_kept)
    assert kept_marking_pct([one(True, 98.0), bad, one(True, 0.0, sent=0)]) == pytest.approx(kept)
    assert kept_marking_pct([bad]) == bad_kept  # all there is


def test_short_evidence_is_said_with_what_closes_it() -> None:
    assert judged([]).causes == []
    (cause,) = judged(runs(cells()[:10])).causes
    assert (cause.key, cause.network, cause.calls) == ("evidence-short", False, 10)
    assert "1 of 5 days" in cause.says[0]
    assert "more ten-minute moments" in cause.remedy


def test_changed_marking_costs_by_how_much_of_it_is_gone() -> None:
    facts = runs(cells()[:20], up={"dscp_kept_pct": 0.0}) + runs(cells()[20:30], up={"dscp_kept_pct": 60.0})
    found = marking(read(facts, BRIEF), [], BRIEF)
    (cause,) = found
    assert cause.cost == {"marking": pytest.approx(20 * 1.0 + 10 * 0.4)}
    assert "in 0 % (median)" in cause.says[0]


@pytest.mark.parametrize(
    ("added", "p50", "p95", "jitter", "standing"),
    [
        (30.0, 5.0, 0.0, 9.0, 30.0),
        (None, 45.0, 0.0, 9.0, 45.0),
        # A queue swells over many packets: neighbours differ by no more than an eighth of the whole swing.
        (10.0, 5.0, 80.0, 10.0, 80.0),
        (10.0, 5.0, 80.0, 10.1, 10.0),
        (None, None, None, 0.0, 0.0),
    ],
)
def test_what_stands_in_a_queue(
    added: float | None, p50: float | None, p95: float | None, jitter: float, standing: float
) -> None:
    assert standing_ms(fact(pdv_p50_ms=p50, pdv_p95_ms=p95, jitter_ms=jitter), added) == standing
