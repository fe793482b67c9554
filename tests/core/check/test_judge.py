"""A check judged: what fails a rung, what only looks like it, and where the thresholds lie."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from tarnfell.core.check.judge import judge
from tarnfell.core.check.values import Judged, Limits, Rung
from tarnfell.wire.kinds.check import (
    CheckResult,
    EchoFacts,
    MarkCount,
    MediaFacts,
    NameFacts,
    ReachFacts,
    Role,
    ServiceAsked,
    ServiceFacts,
    StackFacts,
    Took,
)
from tarnfell.wire.kinds.path import HopFacts, PathFacts
from tarnfell.wire.kinds.signalling import SignallingFacts
from tarnfell.wire.kinds.translation import Kept, Mapped, TranslationFacts
from tests.core.check.sip_talk import talk

GATEWAY, EDGE, OUTSIDE, FAR, RESOLVER = "10.0.0.1", "192.0.2.1", "192.0.2.53", "198.51.100.2", "198.51.100.53"
STACK = StackFacts(("eth0 10.0.0.9/24",), GATEWAY, "eth0", "Ethernet", 1500, (RESOLVER,))


def echo(role: Role, address: str, lost: int = 0, ms: float = 1.0, size: int = 64, **more: Any) -> EchoFacts:
    return EchoFacts(role, address, size, 10, 10 - lost, (ms,) * (10 - lost), **more)


def hop(ttl: int, address: str | None, ms: float = 1.0, missing: int = 0, dscp: int | None = 46) -> HopFacts:
    return HopFacts(ttl, address, (), 5, (ms,) * (5 - missing) if address else (), dscp if address else None)


def call(dscp: int = 46, up: int | None = None, down: int | None = None, **more: Any) -> MediaFacts:
    marks = [(MarkCount(dscp if mark is None else mark, 50),) for mark in (up, down)]
    given = {"bound": True, "sent_up": 50, "sent_down": 50, "received_up": 50, "received_down": 50, **more}
    return MediaFacts(dscp, marks_up=marks[0], marks_down=marks[1], **given)


ECHOES = (
    echo("gateway", GATEWAY),
    echo("edge", EDGE, ms=9),
    echo("outside", OUTSIDE, ms=12),
    echo("far-end", FAR, ms=20),
)
PATH = PathFacts(FAR, 20000, 46, (hop(1, GATEWAY), hop(2, EDGE, 9), hop(3, FAR, 20)), True, True)
WEB = ServiceAsked("Meetings", "meet.example", 443, "tls")
KEPT = tuple(Kept(silent_s, True) for silent_s in (5.0, 10.0, 15.0, 20.0, 25.0, 31.0))
BEHIND = TranslationFacts(
    "10.0.0.9", 5000, (Mapped(20001, "203.0.113.9", 6000), Mapped(20002, "203.0.113.9", 6000)), KEPT
)
HEALTHY = CheckResult(
    FAR, STACK, EDGE, ECHOES, tuple(replace(one, packet_bytes=1500) for one in ECHOES), PATH,
    (NameFacts(RESOLVER, "farend.example", "udp", 12.0, 0, (FAR,)),),
    (ServiceFacts(WEB, "open", 30.0, trusted=True),),
    ReachFacts(20.0, None, True), (call(46), call(34), call(0)), (), (Took("echoes", 3000), Took("path", 1200)),
    BEHIND, SignallingFacts((*talk(), *talk("tcp"))),
)  # fmt: skip


def told(judged: Judged) -> list[tuple[str, str, str]]:
    return [(c.key, c.leg, c.direction) for c in judged.causes]


def rung(judged: Judged, key: str) -> Rung:
    return next(one for one in judged.rungs if one.key == key)


def without(role: Role, **more: Any) -> tuple[EchoFacts, ...]:
    """The echoes, of which none to this role was answered."""
    return tuple(echo(one.role, one.address, 10, **more) if one.role == role else one for one in ECHOES)


SILENT = tuple(echo(one.role, one.address, 10) for one in ECHOES)
NO_PATH = replace(PATH, hops=(hop(1, None), hop(2, None)), reached=False)
UNHEARD: dict[str, Any] = {
    "edge": None, "path": NO_PATH, "services": (), "media": (), "reach": ReachFacts(None, "timed out"),
    "names": (NameFacts(RESOLVER, "farend.example", "udp", None, None, failure="no answer"),),
}  # fmt: skip


def test_a_healthy_network_passes_every_rung_in_the_order_of_the_ladder() -> None:
    judged = judge(HEALTHY)
    assert [one.key for one in judged.rungs] == [
        "own-stack", "gateway", "edge", "outside", "names", "services", "translation", "signalling", "marking", "path",
        "packet-size", "far-end",
    ]  # fmt: skip
    assert {one.state for one in judged.rungs} == {"passed"}
    assert (judged.causes, judged.not_faults) == ((), ())
    assert (rung(judged, "edge").took_ms, rung(judged, "path").took_ms, rung(judged, "own-stack").took_ms) == (
        3000, 1200, None,
    )  # fmt: skip


def test_nothing_asked_proves_nothing_and_accuses_nobody() -> None:
    judged = judge(CheckResult(FAR, STACK, cannot=("It may not.",)))
    assert {one.state for one in judged.rungs} == {"passed", "unproven"}
    assert [one.key for one in judged.rungs if one.state == "passed"] == ["own-stack"]
    assert judged.causes == ()
    assert "It may not." in rung(judged, "gateway").says


@pytest.mark.parametrize(
    ("changes", "causes"),
    [
        ({"stack": replace(STACK, addresses=())}, [("inside-down", "inside", "both")]),
        ({"echoes": SILENT, **UNHEARD}, [("inside-down", "inside", "both")]),
        ({"echoes": (ECHOES[0], *SILENT[1:]), **UNHEARD}, [("line-down", "line", "both")]),
        ({"echoes": (ECHOES[0], *SILENT[1:]), **UNHEARD, "edge": EDGE}, [("line-down", "line", "both")]),
        ({"reach": ReachFacts(None, "Connection refused"), "media": ()}, [("service-silent", "beyond", "both")]),
        ({"reach": ReachFacts(None, "timed out"), "media": ()}, [("port-blocked", "unknown", "both")]),
        (
            {"reach": ReachFacts(None, "timed out"), "media": (), "echoes": without("far-end"), "path": NO_PATH},
            [("beyond-down", "beyond", "both")],
        ),
        ({"media": (call(bound=False),)}, [("port-blocked", "unknown", "both")]),
        ({"media": (call(received_up=0),)}, [("one-way", "unknown", "up")]),
        ({"media": (call(received_down=0),)}, [("one-way", "unknown", "down")]),
        ({"media": (call(46, up=0), call(34, up=0))}, [("marking-changed", "beyond", "up")]),
        ({"media": (call(46, down=0), call(34))}, [("marking-changed", "unknown", "down")]),
        ({"services": (ServiceFacts(WEB, "filtered"),)}, [("port-blocked", "unknown", "both")]),
        ({"services": (ServiceFacts(WEB, "refused"),)}, [("service-silent", "beyond", "both")]),
        ({"services": (ServiceFacts(WEB, "stalled"),)}, [("service-silent", "beyond", "both")]),
        ({"services": (ServiceFacts(WEB, "nameless", says="no address"),)}, [("names-wrong", "unknown", "both")]),
        ({"services": (ServiceFacts(WEB, "nameless", says="no address"),), "names": ()}, []),
        ({"services": (ServiceFacts(WEB, "other", trusted=False),)}, [("service-tampered", "unknown", "both")]),
        (
            {"names": (NameFacts(RESOLVER, "a", "udp", None, None, failure="no answer"),)},
            [("resolver-dead", "unknown", "both")],
        ),
        (
            {"names": (NameFacts("10.0.0.5", "a", "udp", None, None, failure="no answer"),)},
            [("resolver-dead", "inside", "both")],
        ),
        ({"names": (NameFacts(RESOLVER, "a", "udp", 201.0, 0, (FAR,)),)}, [("names-slow", "unknown", "both")]),
        ({"names": (NameFacts(RESOLVER, "a", "udp", 200.0, 0, (FAR,)),)}, []),
        (
            {"names": (NameFacts(RESOLVER, "a", "udp", 5.0, 0, (FAR,)), NameFacts("10.0.0.5", "a", "udp", 5.0, 3))},
            [("names-wrong", "unknown", "both")],
        ),
    ],
)  # fmt: skip
def test_each_fault_is_named_alone(changes: dict[str, Any], causes: list[tuple[str, str, str]]) -> None:
    judged = judge(replace(HEALTHY, **changes))
    assert told(judged) == causes
    for cause in judged.causes:
        assert all(rung(judged, key).state == "failed" for key in cause.rungs)


def test_what_others_beyond_it_answer_is_no_fault_of_the_silent_one() -> None:
    judged = judge(replace(HEALTHY, echoes=without("gateway")))
    assert (told(judged), [one.key for one in judged.not_faults]) == ([], ["echo-muted"])
    assert rung(judged, "gateway").state == "unproven"
    judged = judge(replace(HEALTHY, echoes=without("edge")))
    assert (told(judged), rung(judged, "edge").state) == ([], "passed")  # it answers on the path
    judged = judge(replace(HEALTHY, echoes=without("outside")))
    assert (told(judged), rung(judged, "outside").state) == ([], "unproven")


@pytest.mark.parametrize(("lost", "state"), [(1, "passed"), (2, "failed")])
def test_loss_counts_where_all_beyond_share_it(lost: int, state: str) -> None:
    alone = (echo("gateway", GATEWAY, lost), *ECHOES[1:])
    assert rung(judge(replace(HEALTHY, echoes=alone)), "gateway").state == "passed"
    shared = tuple(echo(one.role, one.address, lost) for one in ECHOES)
    judged = judge(replace(HEALTHY, echoes=shared))
    assert rung(judged, "gateway").state == state
    assert told(judged) == ([("inside-cable", "inside", "both")] if state == "failed" else [])
    wireless = replace(HEALTHY, echoes=shared, stack=replace(STACK, medium="Wi-Fi"))
    assert told(judge(wireless)) == ([("inside-radio", "inside", "both")] if state == "failed" else [])


def test_loss_from_the_edge_on_is_not_told_of_the_gateway() -> None:
    judged = judge(replace(HEALTHY, echoes=(ECHOES[0], *(echo(one.role, one.address, 3) for one in ECHOES[1:]))))
    assert (rung(judged, "gateway").state, rung(judged, "edge").state) == ("passed", "failed")
    assert told(judged) == [("line-loss", "inside or line", "both")]


@pytest.mark.parametrize(("medium", "ms", "remarked"), [
    ("Ethernet", 5.0, False), ("Ethernet", 5.1, True), ("Wi-Fi", 25.0, False), ("Wi-Fi", 25.1, True),
])  # fmt: skip
def test_a_gateway_is_slow_by_the_measure_of_its_medium(medium: str, ms: float, remarked: bool) -> None:
    echoes = (echo("gateway", GATEWAY, ms=ms), *ECHOES[1:])
    judged = judge(replace(HEALTHY, echoes=echoes, stack=replace(STACK, medium=medium)))
    assert ("are usual at most" in rung(judged, "gateway").says) is remarked
    assert rung(judged, "gateway").state == "passed"  # a remark is no failure


@pytest.mark.parametrize(("hops", "keys"), [
    ((hop(1, GATEWAY), hop(2, EDGE, 40.1), hop(3, FAR, 20)), ["hop-slow"]),
    ((hop(1, GATEWAY), hop(2, EDGE, 40.0), hop(3, FAR, 20)), []),
    ((hop(1, GATEWAY), hop(2, EDGE, 9, missing=3), hop(3, FAR, 20)), ["hop-slow"]),
    ((hop(1, GATEWAY), hop(2, EDGE, 9, missing=3), hop(3, FAR, 20, missing=1)), []),
    ((hop(1, GATEWAY), hop(2, None), hop(3, FAR, 20)), []),
    # Also the last router of four, beyond which there is but the far end.
    ((hop(1, GATEWAY), hop(2, EDGE), hop(3, "192.0.2.9", 60), hop(4, FAR, 20)), ["hop-slow"]),
])  # fmt: skip
def test_a_router_slow_for_itself_alone_is_no_fault(hops: tuple[HopFacts, ...], keys: list[str]) -> None:
    judged = judge(replace(HEALTHY, path=replace(PATH, hops=hops)))
    assert ([one.key for one in judged.not_faults], told(judged)) == (keys, [])


@pytest.mark.parametrize(("marks", "leg"), [
    ((0, 0, 0), "inside"), ((46, 0, 0), "inside or line"), ((46, 46, 0), "beyond"), ((46, 46, 46), "beyond"),
    ((None, None, None), "unknown"), ((None, 46, 0), "beyond"), ((None, 0, 0), "inside or line"),
    ((None, None, 0), "unknown"), ((46, None, 0), "unknown"), ((46, None, None), "unknown"),
    ((46, 46, None), "beyond"),
])  # fmt: skip
def test_where_a_marking_is_lost_is_told_as_far_as_routers_quote_it(marks: tuple[int | None, ...], leg: str) -> None:
    hops = tuple(replace(one, dscp_seen=mark) for one, mark in zip(PATH.hops, marks, strict=True))
    judged = judge(replace(HEALTHY, media=(call(46, up=0),), path=replace(PATH, hops=hops)))
    assert told(judged) == [("marking-changed", leg, "up")]


def test_half_of_the_packets_must_have_changed() -> None:
    marks = (MarkCount(0, 25), MarkCount(46, 25))
    assert told(judge(replace(HEALTHY, media=(replace(call(46), marks_up=marks),))))
    marks = (MarkCount(0, 24), MarkCount(46, 26))
    assert not told(judge(replace(HEALTHY, media=(replace(call(46), marks_up=marks),))))
    silent = replace(call(46), marks_up=(), marks_down=())
    assert rung(judge(replace(HEALTHY, media=(silent,))), "marking").state == "unproven"


def large(*answered: Role, **more: Any) -> tuple[EchoFacts, ...]:
    return tuple(echo(one.role, one.address, 0 if one.role in answered else 10, size=1500, **more) for one in ECHOES)


def test_large_packets_that_vanish_are_a_hole_and_those_refused_aloud_are_not() -> None:
    for answered, leg in ((("gateway", "edge", "outside"), "beyond"), (("gateway",), "line"), ((), "unknown")):
        judged = judge(replace(HEALTHY, large_echoes=large(*answered)))
        assert told(judged) == [("mtu-hole", leg, "both")]
    judged = judge(replace(HEALTHY, large_echoes=large("gateway", too_large=True, next_mtu=1400)))
    assert (told(judged), rung(judged, "packet-size").state) == ([], "passed")
    assert "takes packets of 1400 bytes" in rung(judged, "packet-size").says
    mute = replace(HEALTHY, echoes=without("far-end"), large_echoes=large())
    assert rung(judge(mute), "packet-size").state == "unproven"


def test_a_service_that_stalls_in_a_hole_is_not_blamed_for_it() -> None:
    stalled = replace(HEALTHY, services=(ServiceFacts(WEB, "stalled"),), large_echoes=large("gateway"))
    assert [key for key, _, _ in told(judge(stalled))] == ["mtu-hole"]


def test_a_service_whose_name_was_never_found_was_not_asked() -> None:
    one = ServiceFacts(WEB, "nameless", says="the name meet.example cannot be looked up")
    found = rung(judge(replace(HEALTHY, services=(one,), names=())), "services")
    assert (found.state, found.says) == (
        "unproven", "Meetings was not asked: the name meet.example cannot be looked up.",
    )  # fmt: skip
    both = rung(judge(replace(HEALTHY, services=(one, ServiceFacts(WEB, "refused")), names=())), "services")
    assert both.state == "failed"


def test_all_udp_is_blocked_only_where_other_udp_was_asked_and_silent() -> None:
    blocked = {"media": (call(bound=False),), "path": replace(PATH, hops=PATH.hops[:1], reached=False)}
    over_tcp = (
        NameFacts(RESOLVER, "a", "udp", None, None, failure="no answer"),
        NameFacts(RESOLVER, "a", "tcp", 5.0, 0, (FAR,)),
    )
    assert told(judge(replace(HEALTHY, **blocked, names=over_tcp))) == [("udp-blocked", "unknown", "both")]
    assert told(judge(replace(HEALTHY, **blocked, names=()))) == [("port-blocked", "unknown", "both")]
    assert told(judge(replace(HEALTHY, **blocked))) == [("port-blocked", "unknown", "both")]
    inside = tuple(replace(one, resolver="10.0.0.5") for one in over_tcp)  # says nothing of the line
    assert told(judge(replace(HEALTHY, **blocked, names=inside))) == [("port-blocked", "unknown", "both")]


def test_another_key_and_a_call_that_broke_off_fail_without_accusing_the_network() -> None:
    for changes in (
        {"reach": ReachFacts(20.0, None, False), "media": ()},
        {"media": (MediaFacts(46, "The far end refused: it is full.", "refused"),)},
    ):
        judged = judge(replace(HEALTHY, **changes))
        assert (rung(judged, "far-end").state, told(judged)) == ("failed", [])


def test_limits_are_a_sites_own() -> None:
    strict = Limits(gateway_ms=0.5, name_ms=10)
    assert told(judge(HEALTHY, strict)) == [("names-slow", "unknown", "both")]
    assert "0 ms are usual at most" in rung(judge(HEALTHY, strict), "gateway").says


def test_whether_another_name_server_answers_is_said_as_it_is() -> None:
    dead = [NameFacts(server, "a", "udp", None, None, failure="no answer") for server in (RESOLVER, "192.0.2.54")]
    both = judge(replace(HEALTHY, names=tuple(dead)))
    assert ["nor does any other" in cause.says for cause in both.causes] == [True, True]
    one = judge(replace(HEALTHY, names=(dead[0], NameFacts("192.0.2.54", "a", "udp", 5.0, 0, (FAR,)))))
    assert ["another one does" in cause.says for cause in one.causes] == [True]


@pytest.mark.parametrize(
    ("hops", "reached", "says"),
    [
        ((hop(1, FAR),), True, "one hop away: the way to it crosses no line"),
        ((hop(1, None), hop(2, FAR)), True, "No router between gateway and far end says who it is"),
        ((hop(1, None),), False, "No router between gateway and far end says who it is"),
    ],
)
def test_without_an_edge_it_is_said_why(hops: tuple[Any, ...], reached: bool, says: str) -> None:
    near = replace(HEALTHY, edge=None, path=replace(PATH, hops=hops, reached=reached))
    found = rung(judge(near), "edge")
    assert (found.state, says in found.says) == ("unproven", True), found.says


@pytest.mark.parametrize(
    ("dbm", "says"), [(None, ""), (-55, " Wi-Fi at −55 dBm."), (-70, " Wi-Fi at −70 dBm."), (-71, "−71 dBm: weak, the")]
)
def test_how_well_the_access_point_is_heard(dbm: int | None, says: str) -> None:
    found = rung(judge(replace(HEALTHY, stack=replace(STACK, wifi_signal_dbm=dbm))), "own-stack")
    assert (found.state, says in found.says, "Wi-Fi" in found.says) == ("passed", True, dbm is not None)
    assert found.figures.get("wifi_signal_dbm") == dbm
