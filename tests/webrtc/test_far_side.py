"""The far end's side for browsers without a browser: what it sends and when, what it takes, what it says of itself."""

from __future__ import annotations

import struct
import time
from pathlib import Path

import pytest

from tarnfell.media.browser import far_side
from tarnfell.media.browser.far_side import FarSide
from tarnfell.webrtc import loop, sdp, way_back
from tarnfell.webrtc.way_back import WayBack
from tarnfell.wire import WireError
from tarnfell.wire.browser import (
    ANSWER,
    PACKET,
    PACKET_BYTES,
    QUESTION,
    UNDER_MESSAGE,
    BrowserCalls,
    CallsAsked,
    Packet,
    Question,
)
from tarnfell.wire.kinds.path import PathFacts
from tarnfell.wire.kinds.reach import FarReach
from tarnfell.wire.kinds.selfcheck import end_check_of
from tarnfell.wire.record import Record, split_parts

ASKED = BrowserCalls(offer="v=0", token="0" * 32, calls=2, interval_ms=20, filling=93, seconds=1.0)
ORIGIN_US = 1_700_000_000_000_000


class Clock:
    """Both of a machine's clocks, as far on as a test says."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.s = 0.0
        monkeypatch.setattr(time, "monotonic", lambda: 1000.0 + self.s)
        monkeypatch.setattr(far_side, "now_us", lambda: ORIGIN_US + round(self.s * 1e6))


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    return Clock(monkeypatch)


def side(sent: list[bytes], asked: BrowserCalls = ASKED) -> FarSide:
    return FarSide(asked, sent.append, "a test")


def records(one: FarSide) -> tuple[Record, list[Record]]:
    about, *calls = [Record.parse(part) for part in split_parts(one.half())]
    return about, calls


# What is on the wire


def test_a_packet_has_its_call_number_and_time_and_is_filled_up() -> None:
    data = Packet(3, 70_000, 1.5).serialize(filling=5)
    assert data == bytes([PACKET, 3]) + struct.pack("!I", 70_000) + struct.pack("!d", 1.5) + bytes(5)
    assert len(data) == PACKET_BYTES + 5
    assert Packet.parse(data) == Packet(3, 70_000, 1.5)


def test_a_question_comes_back_with_both_times_of_the_far_end() -> None:
    data = Question(9, 10.0).serialize()
    assert Question.parse(data) == Question(9, 10.0)
    assert Question(9, 10.0).answered(20.0, 30.0) == bytes([ANSWER, 0]) + struct.pack("!Iddd", 9, 10.0, 20.0, 30.0)


@pytest.mark.parametrize("data", [b"", bytes([PACKET]), bytes([QUESTION]) * PACKET_BYTES, bytes(PACKET_BYTES)])
def test_what_is_no_packet_is_turned_away(data: bytes) -> None:
    with pytest.raises(WireError):
        Packet.parse(data)


def test_a_question_of_another_length_is_turned_away() -> None:
    for data in (Question(1, 1.0).serialize() + b"x", Question(1, 1.0).serialize()[:-1], bytes(14)):
        with pytest.raises(WireError):
            Question.parse(data)


def test_a_message_costs_what_lies_under_it() -> None:
    """IPv4 20, UDP 8, DTLS 13 + 8 + 16, SCTP 12, DATA 16."""
    assert UNDER_MESSAGE == 20 + 8 + (13 + 8 + 16) + 12 + 16


def test_as_many_packets_as_fit_the_time() -> None:
    assert ASKED.packets == 50
    assert CallsAsked(1, 30, 0, 10.0).packets == 333


# Sending


def test_nothing_is_sent_before_the_browser_says_so(clock: Clock) -> None:
    sent: list[bytes] = []
    one = side(sent)
    one.turn()
    clock.s = 0.5
    one.turn()
    assert sent == []


def test_calls_are_sent_at_their_interval_and_spread_over_it(clock: Clock) -> None:
    sent: list[bytes] = []
    one = side(sent)
    one.begin()
    when: dict[int, list[float]] = {0: [], 1: []}
    while not one.done:
        before = len(sent)
        one.turn()
        for data in sent[before:]:
            packet = Packet.parse(data)
            assert packet.sent_us == ORIGIN_US + round(clock.s * 1e6)
            assert packet.sequence_number == len(when[packet.call])
            when[packet.call].append(clock.s)
        clock.s += 0.002
    assert {len(data) for data in sent} == {PACKET_BYTES + 93}
    assert [len(times) for times in when.values()] == [50, 50]
    for call, offset in ((0, 0.0), (1, 0.010)):
        for number, at in enumerate(when[call]):
            assert 0 <= at - (offset + number * 0.020) <= 0.002 + 1e-9


def test_what_stood_still_sends_late_and_says_so(clock: Clock) -> None:
    sent: list[bytes] = []
    one = side(sent)
    one.begin()
    one.turn()
    clock.s = 0.3
    one.turn()
    about, calls = records(one)
    check = end_check_of(about.meta["about"]["self_check"])
    assert check.send_late_ms is not None
    assert check.send_late_ms.max == pytest.approx(290, abs=11)
    assert check.scatter_ms is not None
    assert check.scatter_ms.max == pytest.approx(298, abs=1)
    assert any("stood still for" in reason for reason in about.meta["about"]["reasons"])
    assert any("that had arrived wait" in reason for reason in about.meta["about"]["reasons"])
    assert calls[0].values("sent_us")[0] == ORIGIN_US


def test_stopped_it_sends_nothing_more(clock: Clock) -> None:
    sent: list[bytes] = []
    one = side(sent)
    one.begin()
    one.turn()
    one.stopped = True
    assert one.done
    clock.s = 1.0
    one.turn()
    assert len(sent) == 1


# Taking


def test_what_arrives_is_kept_as_it_came_doubles_and_order_too(clock: Clock) -> None:
    one = side([])
    for number, at in ((0, 0.1), (2, 0.2), (1, 0.3), (1, 0.4)):
        clock.s = at
        one.take(Packet(1, number, 0.0).serialize())
    _, calls = records(one)
    assert calls[1].values("arrival_seq") == [0, 2, 1, 1]
    assert calls[1].values("arrival_us") == [ORIGIN_US + us for us in (100_000, 200_000, 300_000, 400_000)]
    assert calls[0].values("arrival_seq") == []
    assert one.progress() == {"sent": [0, 0], "reached": [0, 3], "received": [0, 3]}


def test_a_question_is_answered_at_once_with_its_own_time(clock: Clock) -> None:
    sent: list[bytes] = []
    one = side(sent)
    clock.s = 0.25
    one.take(Question(4, 7.0).serialize())
    assert sent == [Question(4, 7.0).answered(ORIGIN_US + 250_000, ORIGIN_US + 250_000)]


def test_what_nobody_planned_is_a_stray_and_not_kept(clock: Clock) -> None:
    one = side([])
    one.take(Packet(2, 0, 0.0).serialize())
    one.take(Packet(0, 50, 0.0).serialize())
    one.take(b"no packet")
    for _ in range(4 * 50 + 1):
        one.take(Packet(0, 0, 0.0).serialize())
    about, calls = records(one)
    assert len(calls[0].values("arrival_seq")) == 200
    assert about.meta["about"]["self_check"]["strays"] == 4


def test_questions_have_an_end(clock: Clock, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(far_side, "MOST_QUESTIONS", 2)
    sent: list[bytes] = []
    one = side(sent)
    for number in range(5):
        one.take(Question(number, 0.0).serialize())
    assert len(sent) == 2


def test_what_the_system_dropped_spoils_it(clock: Clock, tmp_path: Path) -> None:
    rest = "00000000:0000 07 00000000:00000000 00:00000000 00000000 0 0 77 2 0000000000000000"
    rows = [f"  1: 0100007F:{port:04X} {rest} {drops}" for port, drops in ((22001, 5), (22002, 7), (22003, 11))]
    table = tmp_path / "udp"
    table.write_text("\n".join(["  sl  local_address …", *rows]))
    assert loop.dropped({22001, 22003}, (table, tmp_path / "none")) == 16
    one = side([])
    one.queue_drops = 16
    about, _ = records(one)
    assert about.meta["about"]["reasons"] == ["The far end dropped 16 packets in its own receive queue."]


# Descriptions

OFFER = "v=0\r\na=ice-ufrag:x\r\na=candidate:1 1 udp 5 ab.local 9 typ host\r\na=end-of-candidates\r\na=mid:0\r\n"
ANSWERED = (
    "v=0\r\nm=application 22001 DTLS/SCTP 5000\r\n"
    "a=candidate:f 1 udp 2130706431 192.0.2.9 22001 typ host\r\na=mid:0\r\n"
)


def test_nothing_that_a_browser_says_of_its_own_address_is_used() -> None:
    made = sdp.without_names(OFFER)
    assert "ab.local" not in made
    assert [line for line in made.splitlines() if line.startswith("a=candidate")] == [
        "a=candidate:1 1 udp 1 192.0.2.1 9 typ host"
    ]
    assert made.splitlines()[-1] == "a=end-of-candidates"
    assert "a=ice-ufrag:x\r\n" in made


def test_a_far_end_behind_translation_is_told_at_the_address_it_is_reached_by() -> None:
    made = sdp.reached_at(ANSWERED, "203.0.113.7")
    assert "a=candidate:f 1 udp 2130706431 192.0.2.9 22001 typ host\r\n" in made
    assert "a=candidate:f9 1 udp 2130706431 203.0.113.7 22001 typ host\r\n" in made
    assert made.endswith("a=mid:0\r\n")


@pytest.mark.parametrize("address", ["192.0.2.9", "", "far.example", "2001:db8::7"])
def test_an_address_that_adds_nothing_changes_nothing(address: str) -> None:
    assert sdp.reached_at(ANSWERED, address).splitlines() == ANSWERED.splitlines()


def test_where_the_browser_came_from_stands_with_the_half_where_it_is_known() -> None:
    reach = FarReach("203.0.113.5", 61_000, None, "No way.")
    about, *_ = split_parts(side([]).half(reach))
    told = Record.parse(about).meta["about"]["reach"]
    assert (told["address"], told["port"], told["no_path"]) == ("203.0.113.5", 61_000, "No way.")
    assert "reach" not in records(side([]))[0].meta["about"]


def test_the_way_back_is_looked_for_beside_the_calls_and_a_host_that_cannot_says_why(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    asked: list[tuple[str, int, int]] = []

    def look(address: str, port: int, rounds: int, go_on: object) -> PathFacts:
        asked.append((address, port, rounds))
        return PathFacts(address, port, 0, (), False, False)

    monkeypatch.setattr(way_back, "path", look)
    told = WayBack("203.0.113.5", 61_000).told()
    assert told.path == PathFacts("203.0.113.5", 33_434, 0, (), False, False)
    assert (asked, told.port, told.no_path) == ([("203.0.113.5", 33_434, 3)], 61_000, "")

    def cannot(*_: object, **__: object) -> PathFacts:
        raise OSError(101, "Network is unreachable")

    monkeypatch.setattr(way_back, "path", cannot)
    told = WayBack("203.0.113.5", 61_000).told()
    assert told.path is None
    assert "Network is unreachable" in told.no_path
