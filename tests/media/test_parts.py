"""The pieces of media on their own: clocks, lateness, self-check, sockets, sending, receiving, keys, the channel."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from types import SimpleNamespace

import numpy as np
import pytest

from tarnfell.media import board as b
from tarnfell.media import host, receiver
from tarnfell.media import sender as senders
from tarnfell.media.board import Board
from tarnfell.media.engine import CallMedia, MediaEnd
from tarnfell.media.receiver import Receiver, StampReceiver, StreamReceiver
from tarnfell.media.sender import NEVER_LEFT, StampSender, StreamSender, send_streams
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.media.streams import StreamSpec
from tarnfell.media.workers import WorkerLost
from tarnfell.wire.kinds import selfcheck
from tarnfell.wire.kinds.selfcheck import ClockStep, EndCheck, Lateness
from tarnfell.wire.rtp import RtpPacket
from tests import rig

SPEC = StreamSpec(
    ssrc=7,
    payload_type=8,
    clock_hz=8000,
    payload_bytes=160,
    ptime_us=20_000,
    packets=10,
    first_sequence=65_530,
    first_timestamp=2**32 - 320,
    start_us=0,
    dscp=46,
)


@pytest.fixture
def pair() -> Iterator[tuple[socket.socket, socket.socket]]:
    """Two media sockets that speak to each other."""
    one = open_media_socket(socket.AF_INET, "127.0.0.1", 0, 46)
    two = open_media_socket(socket.AF_INET, "127.0.0.1", 0, 46)
    one.connect(two.getsockname())
    two.connect(one.getsockname())
    yield one, two
    one.close()
    two.close()


def drain(sock: socket.socket, within_s: float = 10.0) -> list:
    found = []
    deadline = time.monotonic() + within_s
    while time.monotonic() < deadline:
        arrival = receive(sock)
        if arrival is None:
            time.sleep(0.005)
            if found:
                break
        else:
            found.append(arrival)
    return found


# The machine itself


def test_a_clock_that_is_set_is_noticed(monkeypatch: pytest.MonkeyPatch) -> None:
    shift = [0]
    real = time.time_ns
    monkeypatch.setattr(host.time, "time_ns", lambda: real() + shift[0])
    watch = host.ClockWatch()
    watch.look()
    assert watch.steps == []
    shift[0] = -250_000_000
    watch.look()
    watch.look()
    assert [round(s.step_ms) for s in watch.steps] == [-250]


def test_cpu_report_is_shares_or_unknown() -> None:
    report = host.CpuWatch().report()
    assert set(report) == {"cpu_wait_pct", "cpu_stolen_pct"}
    assert all(v is None or v >= 0 for v in report.values())


def test_lateness_percentiles() -> None:
    assert selfcheck.lateness_of([]) is None
    assert selfcheck.lateness_of(range(1000, 102_000, 1000)) == Lateness(51.0, 100.0, 101.0)


@pytest.mark.parametrize(
    ("check", "words"),
    [
        (EndCheck(send_late_ms=Lateness(0.1, 25.0, 60.0)), "25.0 ms late"),
        (EndCheck(send_late_ms=Lateness(0.1, 0.2, 400.0)), "stood still for 400 ms"),
        (EndCheck(not_sent=3), "refused to send 3 packets"),
        (EndCheck(receive_queue_drops=9), "dropped 9 packets in its own receive queue"),
        (EndCheck(clock_steps=(ClockStep(1, -250.0),)), "clock was set by -250.0 ms"),
        (EndCheck(cpu_wait_pct=40.0), "waited 40 % of the time for a processor"),
    ],
)
def test_what_spoils_a_result_is_said(check: EndCheck, words: str) -> None:
    (reason,) = selfcheck.judge("probe", check)
    assert words in reason


def test_a_healthy_end_says_nothing() -> None:
    healthy = EndCheck(send_late_ms=Lateness(0.05, 0.2, 30.0))
    assert selfcheck.judge("far end", healthy) == []


# Sockets


def test_marking_distance_and_time_come_with_the_packet(pair: tuple[socket.socket, socket.socket]) -> None:
    one, two = pair
    before = time.time_ns()
    one.send(b"hello")
    (arrival,) = drain(two)
    assert arrival.data == b"hello"
    assert (arrival.dscp, arrival.kernel_stamp, arrival.queue_drops) == (46, True, 0)
    assert arrival.ttl == 64
    assert before <= arrival.time_ns <= time.time_ns()


def test_ipv6_tells_the_same() -> None:
    try:
        two = open_media_socket(socket.AF_INET6, "::1", 0, 46)
    except OSError:
        pytest.skip("no IPv6 here")
    one = open_media_socket(socket.AF_INET6, "::1", 0, 34)
    with one, two:
        one.sendto(b"hello", two.getsockname())
        (arrival,) = drain(two)
    assert (arrival.dscp, arrival.ttl, arrival.kernel_stamp) == (34, 64, True)


def test_a_receive_queue_that_overflows_says_so() -> None:
    two = open_media_socket(socket.AF_INET, "127.0.0.1", 0)
    two.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
    with two, socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        for _ in range(200):
            one.sendto(bytes(500), two.getsockname())
        while receive(two):
            pass
        one.sendto(b"last", two.getsockname())
        (last,) = drain(two)
    assert last.queue_drops > 100


# Sending


def test_streams_are_rtp_in_order_across_both_wraps(pair: tuple[socket.socket, socket.socket]) -> None:
    one, two = pair
    sender = StreamSender(0, one, SPEC)
    board = Board(1)
    send_streams(board, [sender], time.monotonic_ns())
    packets = [RtpPacket.parse(a.data) for a in drain(two)]
    assert [p.sequence_number for p in packets] == [65_530, 65_531, 65_532, 65_533, 65_534, 65_535, 0, 1, 2, 3]
    assert [p.timestamp for p in packets][:4] == [2**32 - 320, 2**32 - 160, 0, 160]
    assert [p.marker for p in packets] == [True] + [False] * 9
    assert {len(p.payload) for p in packets} == {160}
    assert board.call(0)[b.SENT] == 10
    assert len(sender.sent_us) == len(sender.late_us) == 10
    assert min(sender.late_us) >= 0


def test_a_late_start_does_not_move_the_schedule(
    pair: tuple[socket.socket, socket.socket], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Behind by 90 ms, it sends what is overdue at once and is on time again."""
    clock = [1_000_000_000]
    monkeypatch.setattr(senders, "time", SimpleNamespace(monotonic_ns=lambda: clock[0], time_ns=lambda: clock[0]))

    def idle(until: int) -> None:
        clock[0] = until

    sender = StreamSender(0, pair[0], SPEC)
    send_streams(Board(1), [sender], clock[0] - 90_000_000, idle=idle)
    assert sender.late_us.tolist() == [90_000, 70_000, 50_000, 30_000, 10_000, 0, 0, 0, 0, 0]
    assert np.diff(sender.sent_us).tolist() == [0, 0, 0, 0, 10_000, 20_000, 20_000, 20_000, 20_000]


def test_stop_ends_the_sending(pair: tuple[socket.socket, socket.socket]) -> None:
    one, _ = pair
    sender = StreamSender(0, one, StreamSpec(**{**SPEC.as_json(), "packets": 1000}))
    board = Board(1)
    thread = threading.Thread(target=send_streams, args=(board, [sender], time.monotonic_ns()))
    thread.start()
    rig.eventually(lambda: len(sender.sent_us) > 5, "the first packets")
    board.cells[b.STOP] = 1
    thread.join(15)
    assert not thread.is_alive()
    assert 5 < len(sender.sent_us) < 1000


def test_packets_the_system_refuses_are_not_called_sent(pair: tuple[socket.socket, socket.socket]) -> None:
    one, _ = pair
    one.close()
    sender = StreamSender(0, one, SPEC)
    board = Board(1)
    send_streams(board, [sender], time.monotonic_ns())
    assert set(sender.sent_us) == {NEVER_LEFT}
    assert board.cells[b.NOT_SENT] == 10


def test_a_closed_port_is_counted_and_costs_no_packet() -> None:
    with open_media_socket(socket.AF_INET, "127.0.0.1") as free:
        nobody = free.getsockname()
    with open_media_socket(socket.AF_INET, "127.0.0.1") as one:
        one.connect(nobody)
        sender, board = StreamSender(0, one, SPEC), Board(1)
        send_streams(board, [sender], time.monotonic_ns())
    assert NEVER_LEFT not in sender.sent_us
    assert board.cells[b.REFUSED] > 0
    assert board.cells[b.NOT_SENT] == 0


# Receiving


def rtp(number: int, ssrc: int = 7) -> bytes:
    return RtpPacket(8, (SPEC.first_sequence + number) & 0xFFFF, number * 160, ssrc, payload=bytes(160)).serialize()


def inlet_on(sock: socket.socket) -> tuple[Receiver, StreamReceiver, Board]:
    stream, board = StreamReceiver(0, sock, SPEC, own_ssrc=99), Board(1)
    return Receiver(board, [stream]), stream, board


def test_arrivals_are_kept_as_they_came(pair: tuple[socket.socket, socket.socket]) -> None:
    one, two = pair
    taker, stream, board = inlet_on(two)
    for number in (0, 2, 1, 6, 6, 9):
        one.send(rtp(number))
    taker.poll()
    assert stream.arrival_seq.tolist() == [0, 2, 1, 6, 6, 9]
    assert set(stream.dscp) == {46}
    assert set(stream.ttl) == {64}
    assert set(stream.size) == {172}
    cells = board.call(0)
    assert (cells[b.RECEIVED], cells[b.EXPECTED]) == (5, 10)
    taker.close()


@pytest.mark.parametrize(
    "stray",
    [b"", b"\x80", bytes(172), rtp(3, ssrc=8), rtp(500), b"\x80\xc8\x00", b"\x80\xc8\xff\xff" + bytes(20), bytes(2000)],
)
def test_strays_are_counted_and_nothing_else(pair: tuple[socket.socket, socket.socket], stray: bytes) -> None:
    one, two = pair
    taker, stream, board = inlet_on(two)
    one.send(stray)
    taker.poll()
    assert len(stream.arrival_seq) == 0
    assert board.cells[b.STRAYS] == 1
    taker.close()


def test_reports_cross_and_give_a_round_trip(
    pair: tuple[socket.socket, socket.socket], monkeypatch: pytest.MonkeyPatch
) -> None:
    """RFC 3550 §6.4.1: each end's sender report comes back as LSR and DLSR in the other's report."""
    monkeypatch.setattr(receiver, "RTCP_INTERVAL_NS", 40_000_000)
    one, two = pair
    near_board, far_board = Board(1), Board(1)
    ours = StreamSpec(**{**SPEC.as_json(), "ssrc": 100})
    near = Receiver(near_board, [StreamReceiver(0, one, SPEC, own_ssrc=100, own=ours)])
    far = Receiver(far_board, [StreamReceiver(0, two, ours, own_ssrc=7, own=SPEC)])
    one.send(RtpPacket(8, SPEC.first_sequence, 0, 100, payload=bytes(160)).serialize())
    two.send(rtp(0))
    deadline = time.monotonic() + 5
    while time.monotonic() < deadline and not near_board.call(0)[b.RTCP_RTT_US]:
        near.poll()
        far.poll()
        time.sleep(0.005)
    assert 0 < near_board.call(0)[b.RTCP_RTT_US] < 1_000_000
    assert near_board.cells[b.STRAYS] == far_board.cells[b.STRAYS] == 0


def test_time_stamps_are_reflected_only_to_the_key(pair: tuple[socket.socket, socket.socket]) -> None:
    one, two = pair
    key = b"k" * 32
    asker = Receiver(Board(0), [], StampReceiver(one, key, reflect=False))
    mirror = Receiver(Board(0), [], StampReceiver(two, key, reflect=True))
    stamps = StampSender(one, key)
    sender = StreamSender(0, one, StreamSpec(**{**SPEC.as_json(), "packets": 20}))
    send_streams(Board(1), [sender], time.monotonic_ns(), stamps)
    one.send(bytes(112))
    time.sleep(0.05)
    mirror.poll()
    time.sleep(0.05)
    asker.poll()
    samples = asker._stamps.samples  # type: ignore[union-attr]
    assert len(samples.t1) == 8
    for t1, t2, t3, t4 in zip(samples.t1, samples.t2, samples.t3, samples.t4, strict=True):
        assert t1 <= t2 <= t3 <= t4
        assert (t4 - t1) - (t3 - t2) < 1_000_000_000


# Both together


def test_a_worker_that_is_killed_is_reported(pair: tuple[socket.socket, socket.socket]) -> None:
    one, _ = pair
    long = StreamSpec(**{**SPEC.as_json(), "packets": 1000})
    end = MediaEnd([CallMedia(0, one, long, SPEC, 7)])
    end.start(time.monotonic_ns())
    time.sleep(0.1)
    end._workers[0].kill()
    with pytest.raises(WorkerLost, match="ended from outside"):
        end.sending()
    end.kill()


def test_an_end_that_sends_nothing_still_receives(pair: tuple[socket.socket, socket.socket]) -> None:
    one, two = pair
    end = MediaEnd([CallMedia(0, two, None, SPEC, 99)])
    end.start(time.monotonic_ns())
    for number in range(3):
        one.send(rtp(number))
    time.sleep(0.2)
    assert end.sending() is False
    result = end.finish()
    assert result.columns[0]["arrival_seq"].values() == [0, 1, 2]
    assert "sent_us" not in result.columns[0]
    assert result.self_check.send_late_ms is None
