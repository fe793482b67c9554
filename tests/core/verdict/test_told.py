"""What a watch and a check tell, joined to what calls have shown: one fault is one cause, and none is claimed twice."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from tarnfell.core.causes import FIREWALL, NETWORK, PROVIDER
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.moments import moments_between
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tarnfell.core.verdict.told import Told
from tests.core.verdict.made_up import (
    BRIEF,
    DAYS,
    LOSS,
    NOT_PLACED,
    QUEUE,
    SILENT,
    cells,
    run,
    runs,
    states,
    week,
)

NOON = [cell for cell in cells() if 720 <= cell[1] < 780]
LUNCH = frozenset(m for day in DAYS[:5] for m in moments_between(day, 720, 3600))
CONGESTED = Told(
    "watch", "16 Nov to 23 Nov", "inside-congested", "inside", "both", "A link inside the site is congested",
    "5 times on 5 days.", "Find the link.", NETWORK, LUNCH,
)  # fmt: skip
PORTS = Told(
    "check", "Mon 16 Nov 08:10", "port-blocked", "unknown", "both", "Part of the media ports is closed",
    "20064–20127 do not answer.", "Open them.", FIREWALL,
)  # fmt: skip


def squeezed(up: dict[str, Any] | None = QUEUE, down: dict[str, Any] | None = None) -> list[Any]:
    """A week in which calls at noon queue."""
    calm = [cell for cell in cells() if cell not in NOON]
    return [*runs(calm), *runs(NOON, up=up, down=down)]


def told(facts: list[Any], *what: Told) -> Evaluation:
    return evaluate_site(facts, BRIEF, told=what)


def where(evaluation: Evaluation) -> list[tuple[str, str, str]]:
    return [(c.key, c.leg, c.direction) for c in evaluation.causes if c.network]


def only(evaluation: Evaluation) -> Cause:
    (one,) = evaluation.faults
    return one


def test_calls_say_what_it_did_and_the_watch_where_it_is() -> None:
    facts = squeezed()
    alone, joined = only(told(facts)), only(told(facts, CONGESTED))
    assert (alone.key, alone.leg) == ("uplink-queue", "unknown")
    assert (joined.key, joined.leg, joined.direction) == ("inside-congested", "inside", "up")
    assert joined.title == "A link inside the site is congested"
    assert joined.says == (*alone.says, "The watch (16 Nov to 23 Nov): 5 times on 5 days.")
    assert (joined.remedy, joined.who) == ("Find the link.", "Merrow IT")
    assert (joined.calls_hit, joined.calls, joined.cost, joined.call_ids, joined.gain) == (
        alone.calls_hit, alone.calls, alone.cost, alone.call_ids, alone.gain,
    )  # fmt: skip
    assert joined.alternatives == alone.alternatives


def test_both_directions_of_one_fault_are_one_cause_and_count_once() -> None:
    two = told(squeezed(QUEUE, QUEUE)).faults
    assert [c.key for c in two] == ["uplink-queue", "downlink-queue"]
    one = only(told(squeezed(QUEUE, QUEUE), CONGESTED))
    assert (one.key, one.direction, one.calls_hit, one.calls) == ("inside-congested", "both", 30, 300)
    assert one.cost == {what: two[0].cost[what] + two[1].cost[what] for what in two[0].cost}
    assert one.gain == "90.0 % of calls acceptable now, 100.0 % without it: 30 of 300 calls."
    assert len(set(one.call_ids)) == 3


def test_points_are_lost_to_the_joined_cause() -> None:
    voice = told(squeezed(), CONGESTED).verdict.dimensions[0]
    assert [one.cause[0] for one in voice.taken] == ["inside-congested"]
    before = told(squeezed()).verdict
    assert (told(squeezed(), CONGESTED).verdict.low, told(squeezed(), CONGESTED).verdict.high) == (
        before.low, before.high,
    )  # fmt: skip


def test_at_other_times_it_is_another_fault() -> None:
    nights = frozenset(m for day in DAYS[:5] for m in moments_between(day, 60, 3600))
    found = told(squeezed(), replace(CONGESTED, moments=nights))
    assert where(found) == [("uplink-queue", "unknown", "up"), ("inside-congested", "inside", "both")]
    own = found.faults[1]
    assert own.says[1] == "No call was placed in its times, so that none was lost to it."
    assert (own.calls_hit, own.calls, own.gain) == (0, 0, "What it buys is not measured by calls.")
    # Every ten minutes of it are taken from steadiness: no call has told of them.
    assert own.cost == {"steadiness": 30}
    # Half of the calls that were hit must have met its times.
    half = frozenset(sorted(LUNCH)[: len(LUNCH) // 2])
    assert where(told(squeezed(), replace(CONGESTED, moments=half))) == [("inside-congested", "inside", "up")]
    less = frozenset(sorted(LUNCH)[: len(LUNCH) // 2 - 1])
    assert len(where(told(squeezed(), replace(CONGESTED, moments=less)))) == 2


def test_a_fault_that_no_cause_of_calls_tells_of_says_what_calls_had_meanwhile() -> None:
    """Too few for a cause of calls: one in three hundred."""
    facts = [*runs(cells()[1:]), *run(cells()[0], up=LOSS)]
    first = frozenset(moments_between(*cells()[0], 1800))
    loss = replace(CONGESTED, key="line-loss", leg="line", title="The line loses packets", who=PROVIDER, moments=first)
    one = only(told(facts, loss))
    assert (one.key, one.leg, one.calls_hit, one.calls) == ("line-loss", "line", 1, 3)
    assert one.says[1] == "1 of 3 calls placed in these ten-minute moments missed the brief."
    assert one.gain == "99.7 % of calls acceptable now, 100.0 % without it: 1 of 300 calls."
    assert one.who == "Coastline Cable"
    assert len(one.call_ids) == 1
    assert one.cost == {"steadiness": 2}
    # Joined to what calls have shown, what they met is not counted again.
    night = frozenset(m for day in DAYS[:5] for m in moments_between(day, 60, 1200))
    alone, both = only(told(squeezed())), only(told(squeezed(), replace(CONGESTED, moments=LUNCH | night)))
    assert both.cost == alone.cost | {"steadiness": alone.cost["steadiness"] + 10}


@pytest.mark.parametrize(
    ("bad", "key", "leg", "what"),
    [
        ({"up": LOSS}, "inside-radio", "inside", "inside-radio"),
        ({"up": LOSS}, "beyond-loss", "beyond", "beyond-loss"),
        ({"up": LOSS}, "inside-congested", "inside", "line-loss"),
        ({"down": QUEUE}, "downlink-queue", "line", "downlink-queue"),
        ({"down": QUEUE}, "delay-swings", "line", "delay-swings"),
        ({"down": QUEUE}, "uplink-queue", "line", "downlink-queue"),
    ],
)
def test_a_fault_explains_only_what_it_can_do(bad: dict[str, Any], key: Any, leg: Any, what: str) -> None:
    facts = [*runs([c for c in cells() if c not in NOON]), *runs(NOON, **bad)]
    assert told(facts, replace(CONGESTED, key=key, leg=leg)).faults[0].key == what


def test_a_queue_of_the_other_direction_is_not_joined() -> None:
    found = told(squeezed(), replace(CONGESTED, direction="down"))
    assert where(found) == [("uplink-queue", "unknown", "up"), ("inside-congested", "inside", "down")]


def test_a_line_that_is_known_to_go_down_leaves_nothing_open() -> None:
    facts = [*week(), *runs([(DAYS[0], 65.0)], **NOT_PLACED, blame="site")]
    alone = only(told(facts))
    assert (alone.key, alone.leg) == ("line-down", "inside or line")
    assert alone.headline == f"{alone.title} ({alone.calls_hit} of {alone.calls} calls)"
    assert "are not told apart" in alone.alternatives[-1]
    night = frozenset(moments_between(DAYS[0], 60, 600))
    down = replace(CONGESTED, key="line-down", leg="line", title="The line goes down", who=PROVIDER, moments=night)
    joined = only(told(facts, down))
    assert (joined.key, joined.leg, joined.alternatives) == ("line-down", "line", alone.alternatives[:-1])
    # What calls know of the leg is not contradicted: another leg is another fault.
    beyond = replace(down, key="beyond-down", leg="beyond")
    assert where(told(facts, beyond)) == [("line-down", "inside or line", "both"), ("beyond-down", "beyond", "both")]


def test_what_a_check_finds_closed_stops_a_site_whatever_its_calls_had() -> None:
    good = told(week())
    assert states(good)["reachability"] == "shown"
    stopped = told(week(), PORTS)
    assert states(stopped)["reachability"] == "shown not"
    assert stopped.verdict.word == "not ready"
    assert stopped.verdict.high <= 49
    reach = next(d for d in stopped.verdict.dimensions if d.dimension == "reachability")
    assert (reach.low, reach.high, [t.cause[0] for t in reach.taken]) == (0, 0, ["port-blocked"])
    assert "The check (Mon 16 Nov 08:10): 20064–20127 do not answer." in stopped.verdict.reasons[0]
    assert only(stopped).who == "Wall & Sons"
    # Nothing was counted that it hit, and no figure is made of that.
    assert only(stopped).headline == only(stopped).title
    # A watch that hears nothing of a port closes none.
    assert states(told(week(), replace(PORTS, source="watch")))["reachability"] == "shown"
    for harmless in ("signalling-rewritten", "names-slow", "translation-forgets"):
        found = told(week(), replace(PORTS, key=harmless))
        assert states(found)["reachability"] == "shown"
        assert only(found).key == harmless


def test_silent_calls_and_a_closed_port_are_one_cause() -> None:
    facts = [*runs(cells()[30:]), *runs(cells()[:30], up=SILENT)]
    one = only(told(facts, PORTS))
    assert (one.key, one.direction, one.calls_hit) == ("port-blocked", "up", 30)
    assert one.says[-1] == PORTS.sentence


def test_what_is_no_fault_is_no_cause() -> None:
    for key in ("evidence-short", "route-changed", "hop-slow", "echo-muted"):
        assert told(week(), replace(CONGESTED, key=key)).faults == []


def test_nothing_that_only_joining_needs_is_kept() -> None:
    for found in (told(squeezed()), told(squeezed(QUEUE, QUEUE), CONGESTED)):
        assert {type(one) for one in found.causes} == {Cause}
