"""Call signalling, judged: what goes through, what never arrives, and what somebody rewrites on the way."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.check.judge import judge
from tarnfell.core.check.signalling import changes_of
from tarnfell.core.check.values import Judged
from tarnfell.wire.kinds.signalling import SignallingFacts, SipMessage, SipWay
from tests.core.check.sip_talk import STEPS, talk, text
from tests.core.check.test_judge import HEALTHY, call, rung, told


def judged(messages: list[SipMessage], **more: object) -> Judged:
    return judge(replace(HEALTHY, signalling=SignallingFacts(tuple(messages)), **more))  # type: ignore[arg-type]


def test_a_registration_and_a_call_go_through() -> None:
    found = rung(judged([*talk(), *talk("tcp")]), "signalling")
    assert found.state == "passed"
    # Each request to its final answer: 10, 10, 10, 20 and 10 ms.
    assert (found.figures["udp_ms"], found.figures["messages"], found.figures["changes"]) == (60, 24, 0)
    assert "over UDP goes through (60 ms)" in found.says
    assert "as it was sent" in found.says


@pytest.mark.parametrize(
    ("until", "step"), [(1, "OPTIONS"), (3, "REGISTER"), (5, "REGISTER"), (8, "INVITE"), (11, "BYE")]
)
def test_the_first_step_that_is_not_answered_is_named(until: int, step: str) -> None:
    found = judged([*talk(until=until), *talk("tcp")])
    assert rung(found, "signalling").state == "failed"
    assert f"Over UDP {step} was not answered" in rung(found, "signalling").says
    assert told(found) == []


def test_what_never_arrives_is_a_closed_port_unless_more_is_closed() -> None:
    lost = replace(talk(until=1)[0], arrived="")
    found = judged([lost, lost, lost, *talk("tcp")])
    assert told(found) == [("port-blocked", "unknown", "both")]
    assert "UDP port 5060" in found.causes[0].says
    blocked = replace(HEALTHY, media=(call(bound=False),), services=())
    closed = [c.key for c in judge(blocked).causes]
    lost_too = replace(blocked, signalling=SignallingFacts((lost, *talk("tcp"))))
    assert [c.key for c in judge(lost_too).causes] == closed  # told once


@pytest.mark.parametrize(("way", "place"), [("up", 6), ("down", 8)])
def test_what_arrives_otherwise_than_it_was_sent(way: SipWay, place: int) -> None:
    messages = [*talk(), *talk("tcp")]
    one = messages[place]
    assert one.way == way
    method, number, status = STEPS[place][1:]
    messages[place] = replace(one, arrived=text(method, number, status, "198.51.100.1"))
    found = judged(messages)
    assert told(found) == [("signalling-rewritten", "unknown", way)]
    assert [(c.where, c.transport) for c in changes_of(SignallingFacts(tuple(messages)))] == [
        ("Via", "udp"), ("Contact", "udp"), ("SDP c=", "udp"),
    ]  # fmt: skip
    says = found.causes[0].says
    assert "over UDP: 3 lines" in says
    assert "was “<sip:desk@10.0.0.9:5062>” and became “<sip:desk@198.51.100.1:5062>”" in says
    assert "SIP helper" in found.causes[0].remedy


def test_how_a_header_is_written_is_no_change_and_what_was_not_told_is_none() -> None:
    messages = [*talk(), *talk("tcp")]
    messages[0] = replace(messages[0], arrived=messages[0].sent.replace("Via:", "v :").replace("Contact:", "m:"))
    messages[1] = replace(messages[1], sent="")
    messages[2] = replace(messages[2], arrived="")
    assert changes_of(SignallingFacts(tuple(messages))) == []
    gone = replace(messages[3], arrived=messages[3].sent.replace("Contact: <sip:desk@10.0.0.9:5062>\r\n", ""))
    (change,) = changes_of(SignallingFacts((gone,)))
    assert (change.where, change.now) == ("Contact", "nothing")


def test_signalling_that_was_not_tried_is_unproven() -> None:
    silent = replace(HEALTHY, signalling=None)
    assert rung(judge(silent), "signalling").says == "It was not asked."
    assert "far end’s key" in rung(judge(replace(silent, media=())), "signalling").says
    taken = SignallingFacts(failure="Port 5060 is taken at the far end.")
    found = rung(judge(replace(HEALTHY, signalling=taken)), "signalling")
    assert (found.state, found.says) == ("unproven", "Port 5060 is taken at the far end.")
