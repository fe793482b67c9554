"""What the consultant decides of causes: their order and words, and never the verdict."""

from __future__ import annotations

from dataclasses import replace

from tarnfell.core.verdict.causes import Cause, Wording
from tarnfell.core.verdict.decisions import Decision, decided
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tests.core.verdict.made_up import BRIEF, LOSS, QUEUE, cells, runs

BOTH = evaluate_site([*runs(cells()[::2], up=QUEUE), *runs(cells()[1::2], up=LOSS)], BRIEF)
COSTLIEST, NEXT = BOTH.faults[:2]
SPOILED = replace(NEXT, key="probe-spoiled", network=False)
THREE = replace(BOTH, causes=[COSTLIEST, NEXT, SPOILED])


def of(cause: Cause, **words: str) -> Decision:
    return Decision(cause.key, cause.leg, cause.direction, False, **{"words": "", **words})  # type: ignore[arg-type]


def order(evaluation: Evaluation, *decisions: Decision) -> list[str]:
    return [cause.key for cause in decided(evaluation, decisions).evaluation.causes]


def test_a_cause_stands_where_the_consultant_puts_it_and_never_behind_what_is_not_the_network() -> None:
    found = [COSTLIEST.key, NEXT.key, SPOILED.key]
    assert order(THREE) == found
    assert order(THREE, of(NEXT, weight="first")) == [NEXT.key, COSTLIEST.key, SPOILED.key]
    assert order(THREE, of(COSTLIEST, weight="last")) == [NEXT.key, COSTLIEST.key, SPOILED.key]
    assert order(THREE, of(SPOILED, weight="first")) == found
    assert order(THREE, of(COSTLIEST, weight="first"), of(NEXT, weight="first")) == found
    assert order(THREE, replace(of(NEXT, weight="first"), direction="down")) == found


def test_own_words_stand_in_place_of_the_evidences_and_say_how_it_was_found() -> None:
    (cause, *_) = decided(BOTH, [of(COSTLIEST, title="The shared uplink", who="Tern Networks")]).evaluation.causes
    assert (cause.title, cause.remedy, cause.who) == ("The shared uplink", COSTLIEST.remedy, "Tern Networks")
    assert cause.as_found == Wording(COSTLIEST.title, COSTLIEST.remedy, COSTLIEST.who)
    assert cause.decided == (f"Heading as found: {COSTLIEST.title}.", f"Who acts as found: {COSTLIEST.who}.")
    (same, *_) = decided(BOTH, [of(COSTLIEST, title=COSTLIEST.title, words="Seen.")]).evaluation.causes
    assert (same.as_found, same.decided, same.note) == (None, (), "Seen.")
    (first, *_) = decided(BOTH, [of(NEXT, weight="first")]).evaluation.causes
    assert first.decided == ("Put first by the consultant, whatever points it took.",)


def test_points_are_told_by_the_heading_on_the_page_and_stay_what_they_were() -> None:
    told = decided(BOTH, [of(COSTLIEST, title="The shared uplink", weight="last")]).evaluation
    before = [(one.title, t.title, t.points) for one in BOTH.verdict.dimensions for t in one.taken]
    after = [(one.title, t.title, t.points) for one in told.verdict.dimensions for t in one.taken]
    assert "The shared uplink" in [title for _, title, _ in after]
    assert after == [
        (d, "The shared uplink" if title == COSTLIEST.title else title, points) for d, title, points in before
    ]
    assert told.verdict.taken_by(COSTLIEST) == BOTH.verdict.taken_by(COSTLIEST)
    assert (told.verdict.word, told.verdict.low, told.verdict.high) == (
        BOTH.verdict.word,
        BOTH.verdict.low,
        BOTH.verdict.high,
    )


def test_what_is_dismissed_is_out_of_the_order_with_its_reason() -> None:
    told = decided(THREE, [replace(of(COSTLIEST, words="A test."), dismissed=True, by="Tess Ter")])
    assert [cause.key for cause in told.evaluation.causes] == [NEXT.key, SPOILED.key]
    assert [(one.cause, one.words, one.by) for one in told.dismissed] == [(COSTLIEST, "A test.", "Tess Ter")]


def test_only_a_decision_without_any_word_takes_back() -> None:
    assert of(COSTLIEST).says_nothing
    assert not replace(of(COSTLIEST), dismissed=True).says_nothing
    for said in ({"words": "x"}, {"weight": "last"}, {"title": "x"}, {"remedy": "x"}, {"who": "x"}):
        assert not of(COSTLIEST, **said).says_nothing
