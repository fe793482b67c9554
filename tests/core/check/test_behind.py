"""Translation, judged: what is seen, what differs by destination, and how long the way back must stay open."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.check.behind import kept_between
from tarnfell.core.check.judge import judge
from tarnfell.core.check.values import Limits
from tarnfell.wire.kinds.translation import Kept, Mapped, TranslationFacts
from tests.core.check.test_judge import BEHIND, HEALTHY, hop, rung, told


def kept(**heard: bool | None) -> tuple[Kept, ...]:
    return tuple(Kept(float(name[1:]), value) for name, value in heard.items())


def seen(*kept_: Kept) -> TranslationFacts:
    return replace(BEHIND, kept=kept_)


def test_translation_is_no_fault_and_told() -> None:
    found = rung(judge(HEALTHY), "translation")
    assert found.state == "passed"
    assert "10.0.0.9 port 5000 is translated to 203.0.113.9 port 6000" in found.says
    assert "silent for 31 s was still open" in found.says
    assert found.figures["binding_at_least_s"] == 31
    assert found.figures["binding_under_s"] is None
    plain = replace(BEHIND, mapped=(Mapped(20001, "10.0.0.9", 5000),))
    assert "Nothing translates" in rung(judge(replace(HEALTHY, translation=plain)), "translation").says


@pytest.mark.parametrize(
    ("facts", "bounds"),
    [
        (kept(s5=True, s10=True, s15=False, s20=False), (10, 15)),
        (kept(s5=False, s10=False), (None, 5)),
        (kept(s5=True, s10=False, s15=True), (15, None)),  # one that was lost, and not the way
        (kept(s5=True, s10=None, s15=None), (5, None)),  # the far end was not heard at all: nothing follows
        ((), (None, None)),
    ],
)
def test_a_binding_lives_between_two_silences(
    facts: tuple[Kept, ...], bounds: tuple[float | None, float | None]
) -> None:
    assert kept_between(seen(*facts)) == bounds


def test_a_way_back_that_closes_within_thirty_seconds_is_a_fault() -> None:
    judged = judge(replace(HEALTHY, translation=seen(*kept(s5=True, s10=True, s15=False))))
    assert told(judged) == [("translation-forgets", "unknown", "both")]
    assert "silent for 15 s was closed; after 10 s it still was" in judged.causes[0].says
    assert "every 10 s" in judged.causes[0].remedy
    for never, often in (
        (15, 8),
        (5, 2),
        (1, 1),
    ):  # half of what was too long, where nothing is known to be short enough
        closed = judge(replace(HEALTHY, translation=seen(Kept(float(never), False))))
        assert f"every {often} s" in closed.causes[0].remedy
    assert rung(judged, "translation").state == "failed"
    later = seen(*kept(s25=True, s31=False))
    assert told(judge(replace(HEALTHY, translation=later))) == []
    assert told(judge(replace(HEALTHY, translation=later), Limits(binding_s=31))) == [
        ("translation-forgets", "unknown", "both")
    ]
    assert told(judge(replace(HEALTHY, translation=seen(*kept(s25=True, s30=False))))) != []


def test_translation_that_differs_by_destination() -> None:
    other = replace(BEHIND, mapped=(Mapped(20001, "203.0.113.9", 6000), Mapped(20002, "203.0.113.9", 6001)))
    judged = judge(replace(HEALTHY, translation=other))
    assert told(judged) == [("translation-per-destination", "unknown", "both")]
    assert "port 20002 sees 203.0.113.9 port 6001" in judged.causes[0].says
    for same in (other.mapped[:1], (other.mapped[0], replace(other.mapped[0], port=20002)), ()):
        assert told(judge(replace(HEALTHY, translation=replace(BEHIND, mapped=same)))) == []


@pytest.mark.parametrize(("address", "shared"), [("100.64.0.1", True), ("100.127.255.1", True), ("100.128.0.1", False)])
def test_an_address_that_many_share(address: str, shared: bool) -> None:
    assert HEALTHY.path is not None
    path = replace(HEALTHY.path, hops=(HEALTHY.path.hops[0], hop(2, address, 5), *HEALTHY.path.hops[1:]))
    assert ("is shared" in rung(judge(replace(HEALTHY, path=path)), "translation").says) is shared
    # The first hop is the site's own gateway, and without translation nothing is shared.
    first = replace(HEALTHY.path, hops=(hop(1, address), *HEALTHY.path.hops[1:]))
    assert "is shared" not in rung(judge(replace(HEALTHY, path=first)), "translation").says


def test_what_was_not_asked_is_unproven() -> None:
    for facts, says in (
        (None, "It was not asked."),
        (TranslationFacts(failure="It is full."), "It is full."),
        (TranslationFacts("10.0.0.9", 5000), "No UDP came back"),
    ):
        found = rung(judge(replace(HEALTHY, translation=facts)), "translation")
        assert (found.state, says in found.says) == ("unproven", True)
    keyless = replace(HEALTHY, translation=None, media=())
    assert "needs the far end’s key" in rung(judge(keyless), "translation").says
