"""Call signalling, judged: what goes through, what never arrives, and what somebody rewrites on the way."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest

from tarnfell.core.check.judge import judge
from tarnfell.core.check.signalling import changes_of
from tarnfell.core.check.sip_calls import records_of
from tarnfell.core.check.values import Judged
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for
from tarnfell.wire.kinds.check import MediaFacts
from tarnfell.wire.kinds.signalling import (
    ArrivedPackets,
    RegistrarFacts,
    SentPackets,
    SignallingFacts,
    SipCall,
    SipMessage,
    SipWay,
)
from tests.core.check.sip_talk import STEPS, talk, text
from tests.core.check.test_judge import HEALTHY, call, rung, told


def judged(messages: list[SipMessage], **more: object) -> Judged:
    return judge(replace(HEALTHY, signalling=SignallingFacts(tuple(messages)), **more))  # type: ignore[arg-type]


def test_a_registration_and_a_call_go_through() -> None:
    found = rung(judged([*talk(), *talk("tcp")]), "signalling")
    assert found.state == "passed"
    # Each request to its final answer: 10, 10, 10, 20 and 10 ms.
    assert (found.figures["udp_ms"], found.figures["messages"], found.figures["changes"]) == (60, 24, 0)
    assert "over UDP go through (60 ms)" in found.says
    assert "as it was sent" in found.says


@pytest.mark.parametrize(
    ("until", "step"), [(1, "OPTIONS"), (3, "REGISTER"), (5, "REGISTER"), (8, "INVITE"), (11, "BYE")]
)
def test_the_first_step_that_is_not_answered_is_named(until: int, step: str) -> None:
    found = judged([*talk(until=until), *talk("tcp")])
    assert rung(found, "signalling").state == "failed"
    assert f"Over UDP {step} was not answered" in rung(found, "signalling").says
    assert told(found) == []


@pytest.mark.parametrize(("until", "step"), [(2, "REGISTER"), (6, "INVITE"), (10, "BYE")])
def test_a_step_that_was_not_taken_because_of_a_stop_is_no_fault(until: int, step: str) -> None:
    found = judged(talk(until=until))
    assert (rung(found, "signalling").state, told(found)) == ("unproven", [])
    assert f"Over UDP {step} was not tried: the check was stopped." in rung(found, "signalling").says


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


def test_one_line_that_arrives_otherwise_is_told_by_itself() -> None:
    messages = [*talk(), *talk("tcp")]
    asked = messages[6]
    messages[6] = replace(asked, arrived=re.sub(r"(?m)^(Via: .*)10\.0\.0\.9", r"\g<1>198.51.100.1", asked.sent))
    says = judged(messages).causes[0].says
    assert "over UDP: 1 line arrives otherwise than it was sent (Via). Via of " in says
    assert re.search("was “[^”]*10.0.0.9[^”]*” and became “[^”]*198.51.100.1[^”]*”", says)


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


# Media of the calls


def media(up: int = 50, down: int = 50, **more: object) -> SipCall:
    """A call of which so many packets arrive; up takes 30 ms, each second one 4 ms more, down 10 ms."""
    ours = SentPackets(7, 100, 46, tuple(20_000 * i for i in range(50)))
    theirs = SentPackets(9, 65_500, 46, tuple(20_000 * i for i in range(50)) if up else ())
    at_us = tuple(20_000 * i + 30_000 + 4000 * (i % 2) for i in range(up))
    far = ArrivedPackets(7 if up else 0, tuple(range(100, 100 + up)), at_us, (0,) * 3 + (46,) * (up - 3) if up else ())
    down = down if up else 0
    seq = tuple((65_500 + i) % 65_536 for i in range(down))
    own = ArrivedPackets(9 if down else 0, seq, tuple(20_000 * i + 10_000 for i in range(down)))
    return replace(SipCall("udp", ours, own, theirs, far), **more)  # type: ignore[arg-type]


def called(call: SipCall, **more: object) -> Judged:
    facts = SignallingFacts((*talk(), *talk("tcp")), calls=(call,))
    return judge(replace(HEALTHY, signalling=replace(facts, **more)))  # type: ignore[arg-type]


def test_media_both_ways_is_told_with_its_packets() -> None:
    found = called(media(48))
    assert told(found) == []
    assert (
        "The call over UDP carries media both ways: 48 of 50 packets up, 50 of 50 down."
        in rung(found, "signalling").says
    )


@pytest.mark.parametrize(
    ("call", "cause", "says"),
    [
        (media(0), ("port-blocked", "unknown", "up"), "The call over UDP: no media packet of 50 reaches the far end"),
        (
            media(50, 0),
            ("one-way", "unknown", "down"),
            "The call over UDP is one-way: 50 of 50 packets arrive up, 0 of 50 down.",
        ),
    ],
)
def test_media_that_does_not_come(call: SipCall, cause: tuple[str, str, str], says: str) -> None:
    found = called(call)
    assert told(found) == [cause]
    assert (rung(found, "signalling").state, says in rung(found, "signalling").says) == ("failed", True)


def test_calls_that_fared_alike_are_told_together_and_a_cause_once() -> None:
    calls = tuple(replace(media(), transport=one) for one in ("udp", "tcp"))
    found = called(calls[0], calls=calls)
    assert "The calls over UDP and TCP carry media both ways: 100 of 100 packets up" in rung(found, "signalling").says
    silent = tuple(replace(media(50, 0), transport=one) for one in ("udp", "tcp", "tls"))
    found = called(silent[0], calls=silent)
    assert told(found) == [("one-way", "unknown", "down")]
    assert "The calls over UDP, TCP and TLS are one-way: 150 of 150" in rung(found, "signalling").says
    # Where calls of the check itself have told the same, it is not told twice.
    both = replace(HEALTHY, media=(call(received_down=0),), signalling=SignallingFacts(tuple(talk()), calls=silent))
    assert [cause[0] for cause in told(judge(both))] == ["one-way"]


def test_media_wanted_elsewhere_or_half_told_claims_no_more() -> None:
    found = called(media(elsewhere="198.51.100.9 port 7"))
    assert (told(found), rung(found, "signalling").state) == ([], "failed")
    assert "198.51.100.9 port 7), so none was sent" in rung(found, "signalling").says
    half = called(media(far_sent=None, far_arrived=None))
    assert (told(half), rung(half, "signalling").state) == ([], "passed")
    assert "the far end has not told its side" in rung(half, "signalling").says


def test_another_certificate_is_somebody_on_the_way() -> None:
    assert told(called(media(), certificate="a" * 64, certificate_seen="a" * 64)) == []
    assert told(called(media(), certificate="a" * 64, certificate_seen="")) == []
    found = called(media(), certificate="a" * 64, certificate_seen="b" * 64)
    assert told(found) == [("service-tampered", "unknown", "both")]
    nothing = SipMessage("tls", "up", 0.0, text("OPTIONS", 1, 0), "")
    seen = SignallingFacts((*talk(), nothing), tls_port=5061, certificate="a" * 64, certificate_seen="b" * 64)
    assert [cause[0] for cause in told(judge(replace(HEALTHY, signalling=seen)))] == ["service-tampered"]
    closed = judge(replace(HEALTHY, signalling=replace(seen, certificate_seen="")))
    assert [cause[0] for cause in told(closed)] == ["port-blocked"]
    assert "TLS port 5061" in closed.causes[0].says


def test_a_record_of_each_call_and_direction() -> None:
    result = replace(
        HEALTHY,
        signalling=SignallingFacts(calls=(media(),)),
        media=(MediaFacts(46, rtt_ms=40.0), MediaFacts(0, rtt_ms=60.0)),
    )
    up, down = records_of(result)
    assert [(one.direction, one.ssrc, one.sent, one.arrived) for one in (up, down)] == [
        ("up", 7, 50, 50),
        ("down", 9, 50, 50),
    ]
    assert (up.dscp_arrived, down.dscp_arrived) == ((46, 0), ())
    # Every other packet 4 ms later: by RFC 3550 jitter runs towards 4 ms.
    assert up.jitter_peak_ms == pytest.approx(4 * (1 - (15 / 16) ** 49), abs=0.001)
    assert down.jitter_peak_ms == 0
    # One way 20 ms, a buffer of 60 and a packet of 20: 100 ms between mouth and ear.
    assert down.r_factor == pytest.approx(float(criterion_for(find_codec("g711a"), 20).rating(100.0, 0.0, 1.0)))
    (lost, _) = records_of(replace(result, signalling=SignallingFacts(calls=(media(40),))))
    assert lost.arrived == 40
    assert lost.r_factor is not None
    assert up.r_factor is not None
    assert lost.r_factor < up.r_factor
    unknown = replace(result, media=())
    assert [(one.r_factor, one.mos) for one in records_of(unknown)] == [(None, None)] * 2
    assert (
        records_of(replace(result, signalling=SignallingFacts(calls=(media(far_sent=None, far_arrived=None),)))) == ()
    )
    (silent,) = records_of(replace(result, signalling=SignallingFacts(calls=(media(0),))))
    assert (silent.direction, silent.arrived, silent.jitter_peak_ms, silent.mos) == ("up", 0, None, None)


# The customer's own registrar


def message(way: SipWay, at_ms: float, words: str) -> SipMessage:
    return SipMessage("udp", way, at_ms, words if way == "up" else "", words if way == "down" else "")


def at(*steps: tuple[str, int, int], came_back: str = "v=0", **more: object) -> RegistrarFacts:
    """Each request and its answer, 10 ms apart; 0 is no answer."""
    messages, now = [], 0.0
    for method, number, status in steps:
        messages.append(message("up", now, text(method, number, 0)))
        now += 10
        if status:
            messages.append(message("down", now, text(method, number, status)))
            now += 10
    return RegistrarFacts(
        "sip.customer.example",
        5060,
        "udp",
        "200",
        tuple(messages),
        offered="v=0",
        came_back=came_back,
        **more,  # type: ignore[arg-type]
    )


REGISTERED = (("OPTIONS", 1, 403), ("REGISTER", 2, 401), ("REGISTER", 3, 200))
CALLED = (*REGISTERED, ("INVITE", 4, 407), ("INVITE", 5, 200), ("BYE", 6, 200), ("REGISTER", 7, 200))


def registered(facts: RegistrarFacts, **more: object) -> Judged:
    return judge(replace(HEALTHY, registrar=facts, **more))  # type: ignore[arg-type]


def test_a_registrar_that_serves_passes_with_its_times() -> None:
    found = registered(at(*CALLED))
    assert told(found) == []
    one = rung(found, "signalling")
    assert (one.state, one.figures["registrar_ms"], one.figures["registrar_call_ms"]) == ("passed", 30, 30)
    assert "Registering 200 at sip.customer.example, UDP port 5060 goes through (30 ms)." in one.says
    alone = rung(registered(at(*CALLED), signalling=None), "signalling")
    assert alone.state == "passed"  # that the far end was not asked takes nothing from it
    assert "changed" not in one.says
    assert "came back changed" in rung(registered(at(*CALLED, came_back="v=0 c=x")), "signalling").says
    assert "not one that this machine trusts" in rung(registered(at(*CALLED, trusted=False)), "signalling").says


@pytest.mark.parametrize(
    ("facts", "state", "causes", "says"),
    [
        (
            at(("OPTIONS", 1, 200), ("REGISTER", 2, 401), ("REGISTER", 3, 403)),
            "unproven",
            [],
            "(403 X). Check user and",
        ),
        (at(("OPTIONS", 1, 200), ("REGISTER", 2, 503)), "unproven", [], "does not register 200 (503 X)."),
        (at(("OPTIONS", 1, 200), ("REGISTER", 2, 0)), "failed", [("service-silent", "beyond", "both")], "though it"),
        (
            at(("OPTIONS", 1, 0), ("REGISTER", 2, 0)),
            "failed",
            [("port-blocked", "unknown", "both")],
            "does not answer (silence)",
        ),
        (
            at(failure="No connection: Connection refused."),
            "failed",
            [("service-silent", "beyond", "both")],
            "refused).",
        ),
        (at(("OPTIONS", 1, 200)), "unproven", [], "was not tried: the check was stopped"),
        (
            at(failure="The name x has no address here."),
            "unproven",
            [],
            "was not asked. The name x has no address here.",
        ),
        (
            at(failure="No connection: timed out."),
            "failed",
            [("port-blocked", "unknown", "both")],
            "(No connection: timed",
        ),
        (
            at(failure="No connection: wrong version."),
            "failed",
            [("service-silent", "beyond", "both")],
            "wrong version).",
        ),
        (at(*CALLED, came_back=""), "passed", [], "was answered by something else"),
        (at(*REGISTERED, ("INVITE", 4, 404)), "passed", [], "does not put through a call to itself (404 X)"),
        (at(*REGISTERED, ("INVITE", 4, 0)), "failed", [("service-silent", "unknown", "both")], "was not answered"),
    ],
)
def test_what_a_registrar_leaves_undone(
    facts: RegistrarFacts, state: str, causes: list[tuple[str, str, str]], says: str
) -> None:
    found = registered(facts, signalling=None)
    assert told(found) == causes
    assert (rung(found, "signalling").state, says in rung(found, "signalling").says) == (state, True), rung(
        found, "signalling"
    ).says
