"""Shown, shown not, open: what evidence makes of a site, and what it must never make of it."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tarnfell.core.causes import PROVIDER
from tarnfell.core.verdict.capacity import Capacity, State, Step
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.facts import CallFact
from tarnfell.core.verdict.moments import NO_SHARE, Tally, Watched, with_watches
from tarnfell.core.verdict.requirements import Requirement
from tarnfell.core.verdict.score import (
    CONDITIONS_CAP,
    NOT_READY_CAP,
    WEIGHTS,
    WEIGHTS_WITH_VIDEO,
    _capacity,
    _taken,
    caps_of,
)
from tarnfell.core.verdict.site import evaluate_site
from tarnfell.core.verdict.told import Told
from tests.core.verdict.made_up import (
    BRIEF,
    DAYS,
    LOSS,
    NEVER_BEGAN,
    NOT_PLACED,
    QUEUE,
    SILENT,
    UNKNOWN_DELAY,
    cells,
    fact,
    held,
    judged,
    run,
    runs,
    states,
    stream,
    week,
)


def test_everything_shown_but_the_full_line_is_ready_with_that_condition() -> None:
    evaluation = judged(week() + held())
    assert states(evaluation) == {
        "share": "shown", "capacity": "shown", "max_delay_ms": "shown", "max_loss_pct": "shown",
        "max_variation_ms": "shown", "reachability": "shown", "steadiness": "shown", "marking": "shown", "load": "open",
    }  # fmt: skip
    verdict = evaluation.verdict
    assert (verdict.word, verdict.provisional) == ("ready with conditions", False)
    assert (verdict.low, verdict.high) == (CONDITIONS_CAP, 100)


def test_nothing_is_not_shown_yet_and_may_be_anything() -> None:
    verdict = judged([]).verdict
    assert (verdict.word, verdict.low, verdict.high, verdict.provisional) == ("not shown yet", 0, 100, False)
    assert {r.state for r in verdict.requirements} == {"open"}
    assert all(r.closes for r in verdict.requirements)


def test_eight_good_calls_where_28_are_needed_are_open_and_not_failed() -> None:
    evaluation = judged(runs(cells()[:1], calls=8), replace(BRIEF, needed_calls=28))
    assert evaluation.verdict.word == "not shown yet"
    assert states(evaluation)["capacity"] == "open"
    assert evaluation.verdict.high == 100


def test_a_direction_that_never_began_is_silent_and_not_absent() -> None:
    """238 calls that carried no audio down were once ready, 100."""
    evaluation = judged(runs(cells()[:238], down=NEVER_BEGAN))
    assert evaluation.verdict.word == "not ready"
    assert states(evaluation)["reachability"] == "shown not"
    assert [(c.key, c.direction) for c in evaluation.faults] == [("one-way", "down")]
    assert "238 of 238" in evaluation.causes[0].says[0]
    assert "never began" in evaluation.causes[0].says[0]
    assert evaluation.sheet[-1].worst_mos(0, 144) == 1.0


def test_a_line_that_drops_twice_a_day_is_not_ready() -> None:
    """Calls that could not be placed count, though nothing of them was ever uploaded."""
    down_hours = {10, 15}
    facts = [f for cell in cells() for f in run(cell, **(NOT_PLACED if int(cell[1] // 60) in down_hours else {}))]
    facts = [replace(f, blame="site") if f.outcome == "not placed" else f for f in facts]
    evaluation = judged(facts + held())
    assert evaluation.verdict.word == "not ready"
    (cause,) = evaluation.causes
    assert (cause.key, cause.leg) == ("line-down", "inside or line")
    assert "0 were cut, 60 could not be placed" in cause.says[0]


@pytest.mark.parametrize(
    ("blame", "key", "leg"),
    [
        ("site", "line-down", "inside or line"),
        ("far end", "beyond-down", "beyond"),
        ("unknown", "line-down", "unknown"),
    ],
)
def test_who_is_to_blame_is_told_as_far_as_it_is_known(blame: str, key: str, leg: str) -> None:
    cut = runs(cells()[:3], outcome="cut", blame=blame, reason="went away")
    (cause,) = judged(week() + cut).causes
    assert (cause.key, cause.leg) == (key, leg)
    assert "3 were cut, 0 could not be placed" in cause.says[0]


def test_unknown_delay_is_no_delay_kept() -> None:
    evaluation = judged(week(**UNKNOWN_DELAY))
    found = states(evaluation)
    assert (found["share"], found["max_delay_ms"], found["max_loss_pct"]) == ("open", "open", "shown")
    assert evaluation.verdict.word == "not shown yet"
    share = next(r for r in evaluation.verdict.requirements if r.key == "share")
    assert "300 calls count neither way" in share.closes


@pytest.mark.parametrize(
    ("silent", "state", "closes"), [(1, "open", "The cause found and removed"), (60, "shown not", "")]
)
def test_what_closes_silence_is_its_cause_found(silent: int, state: str, closes: str) -> None:
    found = judged(runs(cells()[silent:]) + runs(cells()[:silent], down=SILENT)).verdict.requirements
    audio = next(one for one in found if one.key == "reachability")
    assert (audio.state, audio.closes[: len(closes) or None]) == (state, closes)
    assert audio.says.startswith(f"{silent} of {len(cells())} calls carried no audio")


@pytest.mark.parametrize(("unknown", "closes"), [(1, "More moments"), (2, "Answered time stamps")])
def test_what_closes_a_bound_depends_on_whether_most_is_unknown(unknown: int, closes: str) -> None:
    evaluation = judged(runs(cells()[:1]) + runs(cells()[1 : 1 + unknown], **UNKNOWN_DELAY))
    bound = next(r for r in evaluation.verdict.requirements if r.key == "max_delay_ms")
    assert f"Not known of {2 * unknown}." in bound.says
    assert bound.closes.startswith(closes)


def test_unknown_delay_excuses_no_loss() -> None:
    evaluation = judged(week(**UNKNOWN_DELAY, loss_pct=6.0, mos=3.0))
    assert states(evaluation)["share"] == "shown not"


def test_one_bad_call_at_two_calls_does_not_erase_hundreds_of_good_ones_at_four() -> None:
    evaluation = judged(held() + runs([(DAYS[0], 601.0)], calls=2, up=LOSS))
    assert evaluation.verdict.capacity.sustained == 4


def test_one_bad_call_in_a_large_run_does_not_make_capacity_zero() -> None:
    facts = held(calls=4, moments=150)
    facts[0] = replace(facts[0], **LOSS)
    assert judged(facts).verdict.capacity.observed == 4
    assert states(judged(facts))["capacity"] != "shown not"


def test_a_load_that_fails_is_shown_not_and_so_is_every_larger_one() -> None:
    verdict = judged(week() + runs(cells()[::2], calls=3, up=QUEUE)).verdict
    assert (verdict.capacity.sustained, verdict.capacity.fails_at) == (1, 3)
    assert verdict.capacity.state_at(4) == "shown not"
    assert verdict.capacity.state_at(2) == "open"
    assert verdict.word == "not ready"


def test_more_load_never_looks_better() -> None:
    facts = runs(cells()[:20], calls=2, up=LOSS) + runs(cells()[20:60], calls=6)
    steps = judged(facts).verdict.capacity.steps
    for measure in ("fitted_pct", "low_pct", "high_pct"):
        values = [getattr(step, measure) for step in steps]
        assert values == sorted(values, reverse=True), measure


def test_capacity_counts_in_business_hours_only() -> None:
    evening = [(day, minute + 600) for day, minute in cells(hours=range(8, 13))]
    evaluation = judged(week() + runs(evening, calls=4))
    assert states(evaluation)["capacity"] == "open"


def test_video_that_was_asked_for_must_be_shown() -> None:
    brief = replace(BRIEF, video=True)
    assert judged(week() + held(), brief).verdict.word == "not shown yet"
    at = cells()[::2]
    good = [stream(i, cell, d) for i, cell in enumerate(at) for d in ("up", "down")]
    assert judged(week() + held(), brief, good).verdict.word == "ready with conditions"
    bad = [replace(v, score=2.0) for v in good]
    verdict = judged(week() + held(), brief, bad).verdict
    assert (verdict.word, states(judged(week() + held(), brief, bad))["video"]) == (
        "ready with conditions",
        "shown not",
    )
    assert verdict.high <= CONDITIONS_CAP
    assert sum(WEIGHTS.values()) == sum(WEIGHTS_WITH_VIDEO.values()) == 100


def test_a_hair_below_the_target_costs_a_hair() -> None:
    """At 3.99 every call is unacceptable, which is a gate of its own; the points know how far it is."""
    above, below = judged(week(mos=4.0) + held()), judged(week(mos=3.99) + held(mos=3.99))
    voice = [next(d for d in e.verdict.dimensions if d.dimension == "voice") for e in (above, below)]
    assert 0 < voice[0].low - voice[1].low < 60
    assert voice[0].high - voice[1].high < 3
    assert below.verdict.word == "not ready"
    assert below.verdict.high == NOT_READY_CAP


def test_steadiness_does_not_depend_on_how_many_calls_fell_in_a_moment() -> None:
    def steady(calls: int) -> float:
        facts = runs(cells(), calls=calls)
        facts = [replace(f, **LOSS) if i % 40 == 0 else f for i, f in enumerate(facts)]
        return judged(facts).verdict.share.pct or 0.0

    assert steady(1) == pytest.approx(95)
    assert steady(10) == pytest.approx(95)


def test_steadiness_tells_the_share_of_moments_that_were_troubled() -> None:
    at = cells()
    e = judged(runs(at[:270]) + runs(at[270:], up={"mos": 2.0}))
    (one,) = (r for r in e.verdict.requirements if r.key == "steadiness")
    assert one.says.startswith("10.0 % of 300 watched ten-minute moments troubled (")
    assert "at 95 % confidence), on 5 days; at most " in one.says


DAY_AND_NIGHT = frozenset((day, cell) for day in DAYS for cell in range(144))


def steadiness(facts: list[CallFact], *watches: Watched) -> tuple[str, str]:
    found = evaluate_site(facts, BRIEF, watches=watches).verdict.requirements
    (one,) = (r for r in found if r.key == "steadiness")
    return one.state, one.says


def test_a_line_that_goes_down_between_calls_is_not_steady() -> None:
    """Calls at the half hours never meet a break at eight minutes past one; the watch does."""
    nights = frozenset((day, cell) for day in DAYS[:6] for cell in (6, 7))
    assert steadiness(week())[0] == "shown"
    assert steadiness(week(), Watched(DAY_AND_NIGHT, frozenset()))[1].startswith("0.0 % of 1008 watched ten-minute")
    state, says = steadiness(week(), Watched(DAY_AND_NIGHT, nights))
    assert (state, says.partition(" (")[0]) == ("open", "1.2 % of 1008 watched ten-minute moments troubled")
    hours = frozenset((day, cell) for day in DAYS for cell in range(6))
    state, says = steadiness(week(), Watched(DAY_AND_NIGHT, hours))
    assert (state, says.partition(" (")[0]) == ("shown not", "4.2 % of 1008 watched ten-minute moments troubled")
    assert steadiness([], Watched(DAY_AND_NIGHT, frozenset()))[0] == "shown"
    assert steadiness([]) == ("open", "No call counts yet, and no watch has been read.")


def test_a_moment_has_the_worse_of_its_calls_and_its_watches() -> None:
    at = (DAYS[0], 60)
    noon = (DAYS[0], 720 // 10)
    good, bad = Tally(1, 1, 0.9, 1, 1), Tally(1, 0, 0.2, 1, 0)
    fine, troubled = Watched(frozenset({at, noon}), frozenset()), Watched(frozenset({at}), frozenset({at, noon}))
    assert with_watches({at: good}, [fine]) == {at: good, noon: Tally(1, 1, 1.0, 1, 1)}
    assert with_watches({at: bad}, [fine])[at] == bad
    # Watched for less than half of it, and seen in trouble.
    assert with_watches({at: good}, [troubled]) == {at: Tally(1, 0, 0.0, 1, 0), noon: Tally(1, 0, 0.0, 1, 0)}
    assert with_watches({at: good}, [troubled, fine])[at] == Tally(2, 1, 1.0, 2, 1)
    assert with_watches({at: bad}, [troubled, fine])[at] == bad


def test_points_of_steadiness_that_a_watch_found_lost_are_taken_by_its_finding() -> None:
    nights = frozenset((day, cell) for day in DAYS for cell in range(36))
    down = Told("watch", "16 Nov", "line-down", "line", "both", "Down", "7 times.", "Ask.", PROVIDER, nights)
    e = evaluate_site(week(), BRIEF, told=[down], watches=[Watched(DAY_AND_NIGHT, nights)])
    (one,) = (d for d in e.verdict.dimensions if d.dimension == "steadiness")
    assert [(taken.cause[0], taken.points) for taken in one.taken] == [("line-down", pytest.approx(one.lost_points))]
    assert one.lost_points > 5


def test_few_days_earn_only_their_part_of_steadiness() -> None:
    one, five = judged(runs(cells(DAYS[:1]))), judged(week())
    low = [next(d.low for d in e.verdict.dimensions if d.dimension == "steadiness") for e in (one, five)]
    assert low[0] < 0.2 * low[1] + 1
    assert states(one)["steadiness"] == "open"


def test_a_share_met_but_not_certain_is_a_condition_once_the_evidence_is_complete() -> None:
    """Seven bad moments of three hundred: 97.7 % observed, and 97 % not certain."""
    at = cells()
    bad = at[::45]
    facts = runs([c for c in at if c not in bad]) + runs(bad, up=LOSS)
    evaluation = judged(facts + held(4, 150))
    found = {r.key: (r.state, r.stops) for r in evaluation.verdict.requirements}
    assert found["share"] == ("open", False)
    assert found["max_loss_pct"] == ("shown", True)
    assert found["capacity"] == ("shown", True)
    assert evaluation.verdict.word == "ready with conditions"
    assert any("97 % of calls acceptable in business hours: open" in reason for reason in evaluation.verdict.reasons)


def test_the_same_on_less_evidence_than_was_asked_is_not_shown_yet() -> None:
    evaluation = judged(runs(cells(DAYS[:2])))
    assert states(evaluation)["share"] == "open"
    assert evaluation.verdict.word == "not shown yet"


def test_a_share_missed_as_observed_is_no_condition() -> None:
    at = cells()
    facts = runs(at[12:]) + runs(at[:12], up=LOSS)
    share = next(r for r in judged(facts).verdict.requirements if r.key == "share")
    assert (share.state, share.stops) == ("open", True)


def test_left_out_is_named_and_says_where_it_would_change_the_verdict() -> None:
    spoiled = runs(cells(DAYS[5:7]), tainted=True, up=LOSS)
    short = runs(cells()[:2], seconds=5.0)
    one_way = [replace(f, one_way=True) for f in runs(cells()[:3]) if f.direction == "up"]
    evaluation = judged(week() + held() + spoiled + short + one_way)
    assert {one.calls: one.what.split()[0] for one in evaluation.left_out} == {120: "spoiled", 3: "in", 2: "shorter"}
    assert evaluation.word_with_all == "not ready"
    assert evaluation.verdict.calls == 300 + 4 * 150
    assert [c.key for c in evaluation.causes] == ["probe-spoiled"]
    assert not evaluation.faults
    assert judged(week() + held() + short).word_with_all is None


def test_ten_seconds_is_long_enough_to_count_and_a_cut_call_always_counts() -> None:
    assert judged(runs(cells()[:1], seconds=10.0)).verdict.calls == 1
    assert judged(runs(cells()[:1], seconds=9.9)).verdict.calls == 0
    assert judged(runs(cells()[:1], seconds=2.0, outcome="cut")).verdict.calls == 1


def test_a_dead_ten_seconds_makes_a_long_call_unacceptable() -> None:
    assert states(judged(week(worst_stretch_mos=3.0)))["share"] == "shown not"
    assert states(judged(week(worst_stretch_mos=3.1)))["share"] == "shown"


def test_evidence_short_of_the_brief_is_provisional_only_where_a_verdict_stands() -> None:
    bad = judged(runs(cells(DAYS[:1]), up=LOSS)).verdict
    assert (bad.word, bad.provisional) == ("not ready", True)
    assert bad.missing == ("1 of 5 days", "10 of 20 busy hours", "60 of 122 moments of business hours")


# Range and evidence

kinds = st.sampled_from(["good", "loss", "queue", "silent", "near", "not placed"])
_CHANGES = {
    "good": {}, "loss": {"up": LOSS}, "queue": {"down": QUEUE}, "silent": {"down": SILENT},
    "near": {"up": {"mos": 3.9}}, "not placed": NOT_PLACED,
}  # fmt: skip


def made(kind: str, index: int, calls: int) -> list[CallFact]:
    day, minute = cells(DAYS)[index]
    return run((day, minute), calls, **_CHANGES[kind])


items = st.tuples(kinds, st.integers(0, 419), st.sampled_from([1, 2, 4, 6]))


@settings(max_examples=60)
@given(
    st.lists(items, max_size=25),
    st.integers(0, 419),
    st.sampled_from([1, 2, 4, 6]),
    st.sampled_from(["loss", "silent"]),
)
def test_good_evidence_never_lowers_the_lower_end_nor_bad_raise_the_upper(
    before: list[tuple[str, int, int]], at: int, calls: int, bad: str
) -> None:
    facts = [f for item in before for f in made(*item)]
    first = judged(facts).verdict
    better, worse = judged(facts + made("good", at, calls)).verdict, judged(facts + made(bad, at, calls)).verdict
    assert first.low <= first.high
    assert better.uncapped_low >= first.uncapped_low - 1e-6
    assert worse.uncapped_high <= first.uncapped_high + 1e-6
    assert better.low >= first.low
    assert worse.high <= first.high


@settings(max_examples=30)
@given(st.lists(items, min_size=1, max_size=20), st.integers(0, 1000))
def test_spoiling_a_call_never_raises_either_end(before: list[tuple[str, int, int]], which: int) -> None:
    facts = [f for item in before for f in made(*item)]
    spoiled = list(facts)
    n = which % len(facts)
    spoiled[n] = fact(
        facts[n].direction,
        **{**{k: getattr(facts[n], k) for k in ("call_id", "run_id", "day", "minute", "concurrent", "busy")}, **SILENT},
    )
    a, b = judged(facts).verdict, judged(spoiled).verdict
    assert b.uncapped_low <= a.uncapped_low + 1e-6
    assert b.uncapped_high <= a.uncapped_high + 1e-6


def test_lost_points_are_shared_among_causes_by_what_each_cost() -> None:
    at = cells()
    facts = runs(at[:200]) + runs(at[200:260], up=QUEUE) + runs(at[260:], down=LOSS)
    verdict = judged(facts + held()).verdict
    voice = next(d for d in verdict.dimensions if d.dimension == "voice")
    taken = {t.cause[0]: t.points for t in voice.taken}
    assert set(taken) == {"uplink-queue", "line-loss"}
    assert sum(taken.values()) == pytest.approx(voice.lost_points)
    assert taken["uplink-queue"] > taken["line-loss"]
    assert verdict.uncapped_high == pytest.approx(100 - sum(d.lost_points for d in verdict.dimensions))
    assert any(one.low > 0 for one in verdict.dimensions)
    for one in verdict.dimensions:
        assert one.lost_points + one.open_points + one.weight * one.low / 100 == pytest.approx(one.weight)


def test_parts_that_would_read_as_nothing_are_not_told_and_two_directions_of_one_cause_are_two() -> None:
    costs = {"up": 1.0, "down": 1.0, "both": 0.0049}
    one = Cause("line-loss", "line", "up", "", (), (), "", "", "", 1, 1)
    causes = [
        replace(one, direction=way, title=f"It drops {way}", cost={"voice": cost})  # type: ignore[arg-type]
        for way, cost in costs.items()
    ]
    told = _taken("voice", 20.0, causes)
    assert [(t.cause[2], t.title) for t in told] == [("up", "It drops up"), ("down", "It drops down")]
    assert told[0].points == pytest.approx(20 / 2.0049)
    assert [t.cause[2] for t in _taken("voice", 20.0, [*causes[:2], replace(causes[2], cost={"voice": 0.0051})])] == [
        "up", "down", "both",
    ]  # fmt: skip
    assert _taken("video", 20.0, causes) == ()


@pytest.mark.parametrize(
    ("states", "caps"),
    [
        ((("shown", True), ("shown", False)), (100, 100)),
        ((("open", False), ("shown", True)), (CONDITIONS_CAP, 100)),
        ((("shown not", False), ("shown", True)), (CONDITIONS_CAP, CONDITIONS_CAP)),
        ((("open", True), ("shown not", False)), (NOT_READY_CAP, CONDITIONS_CAP)),
        ((("shown not", True), ("shown", False)), (NOT_READY_CAP, NOT_READY_CAP)),
    ],
)
def test_what_is_open_caps_the_lower_end_and_what_failed_both(
    states: tuple[tuple[State, bool], ...], caps: tuple[int, int]
) -> None:
    assert caps_of([Requirement("share", "", state, stops, "", "") for state, stops in states]) == caps


def tried(concurrent: int, low_pct: float, high_pct: float) -> Step:
    return Step(concurrent, NO_SHARE, high_pct, low_pct, high_pct, low_pct, high_pct, "open", 0)


@pytest.mark.parametrize(
    ("steps", "low", "high"),
    [
        # Half of the calls are shown; with what failed at ten, nine at most can still be.
        ((tried(5, 98, 100), tried(10, 0, 20)), 37.5, 80.0),
        # What failed at more than is needed says nothing of what is.
        ((tried(12, 0, 20),), 0.0, 100.0),
        ((tried(12, 98, 100),), 100.0, 100.0),
        # A load that is bounded bounds every greater one.
        ((tried(5, 0, 95), tried(10, 0, 100)), 0.0, 60.0),
        ((), 0.0, 100.0),
    ],
)
def test_capacity_earns_what_is_shown_and_may_earn_what_is_not_excluded(
    steps: tuple[Step, ...], low: float, high: float
) -> None:
    brief = replace(BRIEF, needed_calls=10, required_share_pct=97.0)
    found = _capacity(Capacity(steps, None, None, None), brief)
    assert (found.low, found.high) == (pytest.approx(low), pytest.approx(high))
