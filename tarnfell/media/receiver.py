"""The receiving loop: every packet that comes back, with the kernel's time of arrival.

Because the kernel stamps each packet, the loop may look seldom and take many
at once; where it cannot, it looks often and says so.
"""

from __future__ import annotations

import random
import select
import socket
import time
from array import array
from collections.abc import Iterator
from dataclasses import dataclass, field

from tarnfell.media import board as b
from tarnfell.media import host
from tarnfell.media.board import Board
from tarnfell.media.host import ClockWatch
from tarnfell.media.reflector import reflect
from tarnfell.media.sockets import Arrival, receive
from tarnfell.media.streams import StreamSpec
from tarnfell.wire import WireError, ntp, rtcp, stamp
from tarnfell.wire.rtp import HEADER, extend_sequence, looks_like_rtcp

LOOK_S = 0.01 if host.HERE.linux else 0.001
_CLOCK_LOOK_NS = 100_000_000
RTCP_INTERVAL_NS = 5_000_000_000  # RFC 3550 §6.2
UNKNOWN = 255
"""Stands for a DSCP or TTL that the system did not tell."""
MAX_STAMPS = 400_000


@dataclass
class StreamReceiver:
    """One expected stream with its log of arrivals, duplicates included, in order of arrival."""

    call: int
    sock: socket.socket
    spec: StreamSpec
    own_ssrc: int
    """Signs the RTCP reports; that of the stream this end sends on the same socket, if it sends one."""
    own: StreamSpec | None = None
    arrival_seq: array[int] = field(default_factory=lambda: array("q"))
    arrival_us: array[int] = field(default_factory=lambda: array("q"))
    dscp: array[int] = field(default_factory=lambda: array("B"))
    ttl: array[int] = field(default_factory=lambda: array("B"))
    size: array[int] = field(default_factory=lambda: array("H"))
    seen: bytearray = field(default_factory=bytearray)
    queue_drops: int = 0
    highest: int = -1
    last_transit_ns: int = 0
    jitter_ns: float = 0.0
    last_sr: int = 0
    last_sr_ns: int = 0
    reported_expected: int = 0
    reported_received: int = 0

    def __post_init__(self) -> None:
        self.seen = bytearray(self.spec.packets)
        self.highest = self.spec.first_sequence - 1


@dataclass
class StampSamples:
    """Answers to our time-stamp exchange: four times each, nanoseconds, t1 and t4 on this clock."""

    t1: array[int] = field(default_factory=lambda: array("q"))
    t2: array[int] = field(default_factory=lambda: array("q"))
    t3: array[int] = field(default_factory=lambda: array("q"))
    t4: array[int] = field(default_factory=lambda: array("q"))


@dataclass
class StampReceiver:
    """The exchange's socket: as Session-Sender it collects answers, as Session-Reflector it gives them."""

    sock: socket.socket
    key: bytes
    reflect: bool
    samples: StampSamples = field(default_factory=StampSamples)
    reflected: int = 0


class Receiver:
    """All of one end's sockets. ``poll`` takes what is waiting; ``run`` polls until told to stop."""

    def __init__(self, board: Board, receivers: list[StreamReceiver], stamps: StampReceiver | None = None) -> None:
        self.streams = receivers
        self.kernel_stamps = True
        self.rtcp_rtt_min_us: int | None = None
        """Fastest round trip that RTCP told, over all calls."""
        self.clock = ClockWatch()
        self._clock_look_ns = 0
        self._board = board
        self._stamps = stamps
        self._by_fd = {stream.sock.fileno(): stream for stream in receivers}
        self._stamp_fd = stamps.sock.fileno() if stamps else -1
        self._ready = _Readiness([*self._by_fd, *([self._stamp_fd] if stamps else [])])
        # The first report comes early, then every five seconds, never all at once (RFC 3550 §6.2).
        now = time.monotonic_ns()
        self._rtcp_due = {i: now + int(RTCP_INTERVAL_NS * random.uniform(0.2, 0.5)) for i in range(len(receivers))}
        self._rtcp_next = min(self._rtcp_due.values(), default=now)

    def run(self) -> None:
        while not self._board.cells[b.RECEIVER_STOP]:
            time.sleep(LOOK_S)
            self.poll()

    def poll(self, timeout_s: float = 0.0) -> None:
        for fd in self._ready.wait(timeout_s):
            if fd == self._stamp_fd:
                self._drain_stamps()
            else:
                self._drain_media(self._by_fd[fd])
        now = time.monotonic_ns()
        if now >= self._rtcp_next:
            self._send_reports(now)
        if now >= self._clock_look_ns:
            self.clock.look()
            self._clock_look_ns = now + _CLOCK_LOOK_NS

    def close(self) -> None:
        self._ready.close()

    def _drain_media(self, stream: StreamReceiver) -> None:
        cells = self._board.cells
        for arrival in _waiting(stream.sock, cells):
            if arrival.queue_drops > stream.queue_drops:
                cells[b.QUEUE_DROPS] += arrival.queue_drops - stream.queue_drops
                stream.queue_drops = arrival.queue_drops
            if not arrival.kernel_stamp:
                self.kernel_stamps = False
            if looks_like_rtcp(arrival.data):
                self._take_report(stream, arrival)
            elif not self._take_media(stream, arrival):
                cells[b.STRAYS] += 1

    def _take_media(self, stream: StreamReceiver, arrival: Arrival) -> bool:
        data, spec = arrival.data, stream.spec
        if len(data) < HEADER.size:
            return False
        first, _, sequence, _timestamp, ssrc = HEADER.unpack_from(data)
        if first >> 6 != 2 or ssrc != spec.ssrc:
            return False
        extended = extend_sequence(max(stream.highest, spec.first_sequence), sequence)
        number = extended - spec.first_sequence
        if not 0 <= number < spec.packets:
            return False
        stream.arrival_seq.append(number)
        stream.arrival_us.append(arrival.time_ns // 1000)
        stream.dscp.append(UNKNOWN if arrival.dscp is None else arrival.dscp)
        stream.ttl.append(UNKNOWN if arrival.ttl is None else arrival.ttl)
        stream.size.append(len(data))
        if stream.seen[number]:
            return True
        stream.seen[number] = 1
        self._count(stream, number, extended, arrival.time_ns)
        return True

    def _count(self, stream: StreamReceiver, number: int, extended: int, time_ns: int) -> None:
        """The running figures of the live view; the judgement never uses them."""
        cells, at = self._board.cells, Board.at(stream.call, 0)
        # Against the planned instant: the sender's clock is unknown here, and only differences are used.
        transit = time_ns - stream.spec.due(number).after_us * 1000
        first = cells[at + b.RECEIVED] == 0
        cells[at + b.RECEIVED] += 1
        if extended > stream.highest:
            stream.highest = extended
            cells[at + b.EXPECTED] = number + 1
        if not first:
            stream.jitter_ns += (abs(transit - stream.last_transit_ns) - stream.jitter_ns) / 16
        stream.last_transit_ns = transit
        transit_us = transit // 1000
        if first or transit_us < cells[at + b.MIN_TRANSIT_US]:
            cells[at + b.MIN_TRANSIT_US] = transit_us
        elif transit_us - cells[at + b.MIN_TRANSIT_US] > b.LATE_US:
            cells[at + b.LATE] += 1
        cells[at + b.LAST_TRANSIT_US] = transit_us
        cells[at + b.JITTER_US] = int(stream.jitter_ns / 1000)

    def _take_report(self, stream: StreamReceiver, arrival: Arrival) -> None:
        try:
            packets = rtcp.parse_compound(arrival.data)
        except WireError:
            self._board.cells[b.STRAYS] += 1
            return
        for packet in packets:
            if not isinstance(packet, (rtcp.SenderReport, rtcp.ReceiverReport)) or packet.ssrc != stream.spec.ssrc:
                continue
            if isinstance(packet, rtcp.SenderReport):
                stream.last_sr = ntp.middle(packet.ntp_timestamp)
                stream.last_sr_ns = arrival.time_ns
            for block in packet.blocks:
                if block.ssrc == stream.own_ssrc and block.last_sr:
                    now = ntp.middle(ntp.from_unix_ns(arrival.time_ns))
                    rtt = (now - block.last_sr - block.delay_since_last_sr) & 0xFFFFFFFF
                    if rtt < 60 << 16:  # RFC 3550 §6.4.1; more is a wrapped difference
                        rtt_us = rtt * 1_000_000 >> 16
                        self._board.cells[Board.at(stream.call, b.RTCP_RTT_US)] = rtt_us
                        self.rtcp_rtt_min_us = min(rtt_us, self.rtcp_rtt_min_us or rtt_us)

    def _send_reports(self, now: int) -> None:
        for i, due in self._rtcp_due.items():
            if due <= now:
                self._send_report(self.streams[i])
                self._rtcp_due[i] = now + int(RTCP_INTERVAL_NS * random.uniform(0.5, 1.5))
        self._rtcp_next = min(self._rtcp_due.values(), default=now + RTCP_INTERVAL_NS)

    def _send_report(self, stream: StreamReceiver) -> None:
        cells, at = self._board.cells, Board.at(stream.call, 0)
        total, received, sent = cells[at + b.EXPECTED], cells[at + b.RECEIVED], cells[at + b.SENT]
        expected = total - stream.reported_expected
        lost = expected - (received - stream.reported_received)
        stream.reported_expected, stream.reported_received = total, received
        now = time.time_ns()
        block = rtcp.ReportBlock(
            ssrc=stream.spec.ssrc,
            fraction_lost=min(255, max(0, lost << 8) // expected) if expected > 0 else 0,
            cumulative_lost=total - received,
            highest_sequence=max(0, stream.highest) & 0xFFFFFFFF,
            jitter=int(stream.jitter_ns * stream.spec.clock_hz / 1e9) & 0xFFFFFFFF,
            last_sr=stream.last_sr,
            delay_since_last_sr=((now - stream.last_sr_ns) << 16) // 10**9 & 0xFFFFFFFF if stream.last_sr else 0,
        )
        blocks = (block,) if total else ()
        report: rtcp.SenderReport | rtcp.ReceiverReport
        if stream.own is None:  # who sends nothing only reports (RFC 3550 §6.4.2)
            report = rtcp.ReceiverReport(stream.own_ssrc, blocks)
        else:
            report = rtcp.SenderReport(
                ssrc=stream.own_ssrc,
                ntp_timestamp=ntp.from_unix_ns(now),
                rtp_timestamp=(stream.own.first_timestamp + stream.own.due(sent).ticks) & 0xFFFFFFFF,
                packet_count=sent,
                octet_count=stream.own.octets(sent) & 0xFFFFFFFF,
                blocks=blocks,
            )
        try:
            stream.sock.send(report.serialize() + rtcp.source_description(stream.own_ssrc, "tarnfell").serialize())
        except OSError:
            pass  # no peer yet, or none any more; the media log tells

    def _drain_stamps(self) -> None:
        stamps = self._stamps
        assert stamps is not None
        for arrival in _waiting(stamps.sock, self._board.cells):
            try:
                if stamps.reflect:
                    reflect(stamps.sock, stamps.key, arrival, stamps.reflected)
                    stamps.reflected += 1
                else:
                    self._take_answer(stamps, arrival)
            except WireError:
                self._board.cells[b.STRAYS] += 1

    def _take_answer(self, stamps: StampReceiver, arrival: Arrival) -> None:
        answer = stamp.ReflectorPacket.parse(arrival.data, stamps.key)
        samples = stamps.samples
        if len(samples.t1) >= MAX_STAMPS:
            return
        t1, t2 = ntp.to_unix_ns(answer.sender_timestamp), ntp.to_unix_ns(answer.receive_timestamp)
        t3, t4 = ntp.to_unix_ns(answer.timestamp), arrival.time_ns
        for column, value in ((samples.t1, t1), (samples.t2, t2), (samples.t3, t3), (samples.t4, t4)):
            column.append(value)
        self._board.cells[b.RTT_US] = max(0, (t4 - t1) - (t3 - t2)) // 1000


def _waiting(sock: socket.socket, cells: memoryview) -> Iterator[Arrival]:
    while True:
        try:
            arrival = receive(sock)
        except ConnectionRefusedError:
            cells[b.REFUSED] += 1
            continue
        except OSError:
            return  # interface gone; what was sent will count as lost
        if arrival is None:
            return
        yield arrival


class _Readiness:
    """Which sockets have something, by the system's best means for many of them."""

    def __init__(self, fds: list[int]) -> None:
        self._fds = fds
        self._epoll = select.epoll() if hasattr(select, "epoll") else None
        if self._epoll:
            for fd in fds:
                self._epoll.register(fd, select.EPOLLIN)

    def wait(self, timeout_s: float) -> list[int]:
        if self._epoll:
            return [fd for fd, _ in self._epoll.poll(timeout_s)]
        return select.select(self._fds, [], [], timeout_s)[0]

    def close(self) -> None:
        if self._epoll:
            self._epoll.close()
