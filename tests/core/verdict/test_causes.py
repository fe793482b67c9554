"""Causes by the closed list: what tells them apart, with a leg only where the figures give one, and who acts."""

from __future__ import annotations

from dataclasses import replace
from typing import get_args

import pytest

from benchmarks.causes import FAULTS, said_of
from tarnfell.core.verdict.causes import CauseKey
from tarnfell.core.verdict.facts import CallFact
from tests.core.verdict.made_up import (
    BRIEF,
    DAYS,
    FAR,
    LOSS,
    QUEUE,
    SCATTER,
    SILENT,
    cells,
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


def test_a_queue_of_unknown_place_blames_neither_line_nor_far_end() -> None:
    (cause,) = judged(runs(cells()[:200]) + runs(cells()[200:], up=QUEUE)).causes
    told = " ".join([cause.title, *cause.alternatives]).lower()
    assert "somewhere on the way" in told
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


def test_a_second_test_point_farther_away_is_no_queue() -> None:
    far = {"delay_p50_ms": 90.0, "mouth_to_ear_ms": 170.0, "probe_id": 2}
    facts = week() + runs(cells(), **far)
    evaluation = judged(facts)
    assert evaluation.causes == []
    assert max(r.added_ms or 0 for r in evaluation.readings) == 0


def test_calls_that_fill_the_line_themselves_are_a_small_line() -> None:
    facts = week() + runs(cells()[::3], calls=4, up=QUEUE)
    (cause,) = judged(facts).causes
    assert (cause.key, cause.direction) == ("uplink-small", "up")
    assert "400 of 400 at 4 or more concurrent calls, 0 of 300 below" in " ".join(cause.says)
    assert "336 kbit/s" in " ".join(cause.alternatives)
    assert "2,000 kbit/s" in " ".join(cause.alternatives)
    assert "priority cannot make room" in cause.remedy


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
    (cause,) = judged(mixed).causes
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
    found = said_of(kind, 3, days=3).causes
    assert [c.key for c in found] == ([] if kind == "quiet" else [kind])


def test_when_is_told_by_the_shortest_stretch_that_holds_nine_in_ten() -> None:
    lunch = [(day, 720.0 + 10 * i) for day in DAYS[:5] for i in range(6)]
    (cause,) = judged(week() + runs(lunch, up=LOSS)).causes
    assert any("30 of 30 times between 12:00 and 13:00, on 5 days" in line for line in cause.says)


def test_a_clock_that_was_set_is_not_the_network() -> None:
    evaluation = judged(week() + runs(cells()[:5], tainted=True, clock_set=True))
    (cause,) = evaluation.causes
    assert (cause.key, cause.network, cause.calls_hit) == ("clock-set", False, 5)
