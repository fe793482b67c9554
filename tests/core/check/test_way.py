"""The way by other means, the way back, media ports all over their range, and routes that change."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.check.judge import judge
from tarnfell.core.check.way import route_change
from tarnfell.wire.kinds.check import PortsFacts
from tarnfell.wire.kinds.path import HopFacts, PathFacts
from tests.core.check.test_judge import EDGE, FAR, GATEWAY, HEALTHY, PATH, call, hop, rung, told

TCP = replace(PATH, method="tcp", port=4870)
ICMP = replace(PATH, method="icmp", port=0)
BLOCKED = (call(bound=False),)


def cut(path: PathFacts, heard: int) -> PathFacts:
    """Of which only so many hops were heard."""
    hops = tuple(replace(one, address=None, rtt_ms=()) if one.ttl > heard else one for one in path.hops)
    return replace(path, hops=hops, reached=False)


@pytest.mark.parametrize(
    ("heard", "others", "leg"),
    [
        (1, (TCP,), "inside or line"),
        (2, (TCP,), "beyond"),
        (0, (TCP,), "inside"),
        (0, (replace(TCP, hops=(hop(1, None), *TCP.hops[1:])),), "unknown"),  # that router tells of nobody's packets
        (1, (replace(TCP, hops=(TCP.hops[0], hop(2, None), TCP.hops[2])),), "unknown"),
        (1, (replace(TCP, hops=(TCP.hops[0], hop(2, FAR))),), "unknown"),  # the far end itself may drop them
        (1, (cut(TCP, 2),), "inside or line"),
        (1, (cut(TCP, 1),), "unknown"),  # nothing gets farther: it is not UDP that is dropped there
        (1, (), "unknown"),
        (1, (cut(ICMP, 1), TCP), "inside or line"),
    ],
)
def test_where_udp_ends_is_told_by_what_gets_farther(heard: int, others: tuple[PathFacts, ...], leg: str) -> None:
    judged = judge(replace(HEALTHY, path=cut(PATH, heard), other_paths=others, media=BLOCKED))
    assert told(judged) == [("port-blocked", leg, "both")]
    if leg in ("inside or line", "beyond"):
        address = GATEWAY if heard == 1 else EDGE
        assert f"last heard of at {address}, hop {heard}; TCP gets farther." in judged.causes[0].says


def test_a_path_says_what_other_means_and_the_way_back_show() -> None:
    back = PathFacts(
        "10.0.0.9", 5000, 46, (hop(1, EDGE), hop(2, GATEWAY), hop(3, None), hop(4, "10.0.0.9")), True, True
    )
    longer = replace(ICMP, hops=(*ICMP.hops, hop(4, FAR)))
    one = rung(judge(replace(HEALTHY, other_paths=(longer, TCP), way_back=back)), "path")
    assert one.says == f"{FAR} is 3 hops away; each answers. By ICMP it is 4 hops. The way back is 4 hops."
    assert one.figures["back_hops"] == 4
    one = rung(judge(replace(HEALTHY, path=cut(PATH, 1), other_paths=(cut(ICMP, 2), TCP))), "path")
    assert one.says.endswith(f"ICMP is last heard of at {EDGE}, hop 2. By TCP it is 3 hops away.")
    assert one.state == "unproven"
    assert rung(judge(replace(HEALTHY, way_back=replace(back, reached=False))), "path").figures["back_hops"] is None


def test_what_icmp_alone_shows_is_told_as_that() -> None:
    """As where a system shows no path of UDP."""
    short = replace(cut(PATH, 1), method="icmp")
    one = rung(judge(replace(HEALTHY, path=short, other_paths=())), "path")
    assert one.says.startswith(f"Packets of ICMP were last heard of at hop 1, {GATEWAY}.")
    # Nothing is said of where UDP ends, which nobody has seen.
    assert told(judge(replace(HEALTHY, path=short, other_paths=(TCP,), media=BLOCKED))) == [
        ("port-blocked", "unknown", "both")
    ]
    longer = replace(PATH, hops=(*PATH.hops, hop(4, FAR)))
    assert route_change(longer, PATH) is not None
    assert route_change(replace(longer, method="icmp"), PATH) is None


def backwards(*marks: int | None) -> PathFacts:
    hops: list[HopFacts] = [hop(n, f"198.51.100.{n}", dscp=mark) for n, mark in enumerate(marks, 1)]
    return PathFacts("10.0.0.9", 5000, 46, (*hops, hop(len(hops) + 1, "10.0.0.9", dscp=None)), True, True)


@pytest.mark.parametrize(
    ("back", "leg", "says"),
    [
        (backwards(46, 46), "inside", "198.51.100.2, hop 2 of the way back, still received it as sent."),
        (backwards(46, None, None), "unknown", "hop 1 of the way back, still"),
        (backwards(None, 0), "unknown", "changed before 198.51.100.2"),
        (backwards(46, None), "inside or line", "198.51.100.1, hop 1 of the way back, still"),
        (backwards(46, 0), "inside or line", "198.51.100.1 still received it as sent; 198.51.100.2, closer to here"),
        (backwards(46, None, 0), "unknown", "198.51.100.3, closer to here, did not"),
        (backwards(46, 0, 0), "beyond", "198.51.100.1 still received it as sent; 198.51.100.2, closer to here"),
        (backwards(0, 0), "beyond", "changed before 198.51.100.1, hop 1 of the way back"),
        (backwards(None, None), "unknown", ""),
        (replace(backwards(46, 46), reached=False), "unknown", ""),
        (None, "unknown", ""),
    ],
)
def test_where_a_marking_is_lost_on_the_way_down(back: PathFacts | None, leg: str, says: str) -> None:
    judged = judge(replace(HEALTHY, media=(call(46, down=0),), way_back=back))
    assert told(judged) == [("marking-changed", leg, "down")]
    assert says in judged.causes[0].says


ASKED = (20000, 20010, 20020, 20030, 20040)


@pytest.mark.parametrize(
    ("answered", "heard", "way", "says"),
    [
        (ASKED[:2], ASKED[:2], "up", "20020–20040 do not answer; 20000–20010 do"),
        (ASKED[:2], ASKED, "down", "its answers did not come back"),
        (ASKED[:2], ASKED[:3], "both", "received nothing on 2 of them"),
        ((20000, 20040), (20000, 20040), "up", "20010–20030 do not answer; 20000, 20040 do"),
    ],
)
def test_part_of_the_media_ports_closed(answered: tuple[int, ...], heard: tuple[int, ...], way: str, says: str) -> None:
    judged = judge(replace(HEALTHY, ports=PortsFacts(ASKED, answered, heard)))
    assert told(judged) == [("port-blocked", "unknown", way)]
    assert says in judged.causes[0].says
    assert "(5 of the range were asked)" in judged.causes[0].says
    assert rung(judged, "far-end").state == "failed"


def test_ports_that_all_answer_are_said_and_those_not_asked_are_not() -> None:
    judged = judge(replace(HEALTHY, ports=PortsFacts(ASKED, ASKED, ASKED)))
    assert told(judged) == []
    assert rung(judged, "far-end").says.endswith("5 ports from 20000 to 20040 answer.")
    assert "ports" not in rung(judge(HEALTHY), "far-end").says


def test_a_route_has_changed_only_where_hops_say_so() -> None:
    assert route_change(PATH, PATH) is None
    silent = replace(PATH, hops=(PATH.hops[0], hop(2, None), PATH.hops[2]))
    assert route_change(silent, PATH) is None
    shared = replace(
        PATH, hops=(PATH.hops[0], replace(PATH.hops[1], address="192.0.2.8", others=(EDGE,)), PATH.hops[2])
    )
    assert route_change(shared, PATH) is None  # two lines side by side, of which both were seen
    other = replace(PATH, hops=(PATH.hops[0], hop(2, "192.0.2.8", 30), hop(3, FAR, 44)))
    assert route_change(other, PATH) == (
        f"The route has changed: hop 2 is 192.0.2.8, it was {EDGE}; round trip 44.0 ms, 20.0 ms before."
    )
    before, now = (replace(PATH, hops=tuple(hop(n, f"192.0.2.{net + n}") for n in range(1, 8))) for net in (10, 20))
    assert "hop 3 is 192.0.2.23, it was 192.0.2.13; 4 more differ" in (route_change(now, before) or "")
    three = replace(now, hops=now.hops[:3])
    assert "more differ" not in (route_change(three, replace(before, hops=before.hops[:3])) or "")
    longer = replace(PATH, hops=(*PATH.hops[:2], hop(3, None), hop(4, FAR, 20)))
    assert route_change(longer, PATH) == "The route has changed: 4 hops, 3 before; round trip 20.0 ms, 20.0 ms before."
    assert route_change(cut(PATH, 2), PATH) is None
    # A router on the way that did not answer in time says nothing of the whole way.
    unheard = replace(PATH, hops=(PATH.hops[0], replace(PATH.hops[1], rtt_ms=()), PATH.hops[2]))
    assert route_change(other, unheard) == route_change(other, PATH)
    mute_end = replace(PATH, hops=(*PATH.hops[:2], replace(PATH.hops[2], rtt_ms=())))
    assert "round trip" not in (route_change(other, mute_end) or "")
