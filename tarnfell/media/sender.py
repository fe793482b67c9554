"""The sending loop: every stream of a run, each packet at its own planned instant.

The schedule is absolute. A packet that leaves late does not move the next one,
so an hour of packets ends when it should.
"""

from __future__ import annotations

import os
import socket
import time
from array import array
from collections.abc import Callable
from dataclasses import dataclass, field
from heapq import heapify, heappop, heapreplace

from tarnfell.media import board as b
from tarnfell.media.board import Board
from tarnfell.media.streams import StreamSpec
from tarnfell.wire import ntp, stamp
from tarnfell.wire.rtp import HEADER

STAMP_INTERVAL_NS = 50_000_000
_LOOK_NS = 50_000_000
"""Longest sleep: how soon a stop is seen."""
NEVER_LEFT = 0
"""Stands for the send time of a packet that the system refused."""

Idle = Callable[[int], None]
"""What to do until the given monotonic nanosecond; plain sleep unless an arrangement has other work."""


@dataclass
class StreamSender:
    """One stream with the socket it leaves by and the log of when each packet left."""

    call: int
    sock: socket.socket
    spec: StreamSpec
    sent_us: array[int] = field(default_factory=lambda: array("q"))
    late_us: array[int] = field(default_factory=lambda: array("q"))


@dataclass(frozen=True)
class StampSender:
    """The two-way time-stamp exchange that runs beside the calls (RFC 8762), as Session-Sender."""

    sock: socket.socket
    key: bytes


def sleep_until(due_ns: int) -> None:
    left = due_ns - time.monotonic_ns()
    if left > 0:
        time.sleep(left / 1e9)


def send_streams(
    board: Board,
    senders: list[StreamSender],
    start_ns: int,
    stamps: StampSender | None = None,
    idle: Idle = sleep_until,
) -> None:
    """Send every stream from monotonic ``start_ns`` until all packets are out or the board says stop.

    Time stamps without a stream, where the other end alone sends, go on until the board says stop.
    """
    cells, monotonic, real = board.cells, time.monotonic_ns, time.time_ns
    payloads = [os.urandom(o.spec.largest_payload) for o in senders]
    heap = [(start_ns + o.spec.start_us * 1000, i) for i, o in enumerate(senders)]
    media_left = len(heap)
    stamp_turn, stamp_number = len(senders), 0
    if stamps is not None:
        # Half way between two calls' packets, where it delays neither.
        gap_us = min((o.spec.ptime_us for o in senders), default=20_000) // max(1, len(senders))
        heap.append((start_ns + gap_us * 500, stamp_turn))
    heapify(heap)
    stamps_alone = stamps is not None and not senders
    while media_left or stamps_alone:
        due, turn = heap[0]
        # What can be done before the instant is done before it.
        packet = b"" if turn == stamp_turn else _packet(senders[turn], payloads[turn])
        while (now := monotonic()) < due:
            if cells[b.STOP]:
                return
            idle(min(due, now + _LOOK_NS))
        if turn == stamp_turn:
            assert stamps is not None
            _send_stamp(stamps, stamp_number)
            stamp_number += 1
            heapreplace(heap, (due + STAMP_INTERVAL_NS, turn))
            continue
        sender = senders[turn]
        left_us = real() // 1000
        late_us = (now - due) // 1000
        if not _send(sender.sock, packet, cells):
            left_us = NEVER_LEFT
        sender.sent_us.append(left_us)
        sender.late_us.append(late_us)
        sent = len(sender.sent_us)
        cells[Board.at(sender.call, b.SENT)] = sent
        if late_us > cells[b.LATE_MAX_US]:
            cells[b.LATE_MAX_US] = late_us
        if sent == sender.spec.packets:
            heappop(heap)
            media_left -= 1
        else:
            heapreplace(heap, (start_ns + (sender.spec.start_us + sender.spec.due(sent).after_us) * 1000, turn))


def _packet(sender: StreamSender, payload: bytes) -> bytes:
    """The sender's next packet."""
    spec, number = sender.spec, len(sender.sent_us)
    due = spec.due(number)
    header = HEADER.pack(
        0x80,
        spec.payload_type | (0x80 if due.marker else 0),
        (spec.first_sequence + number) & 0xFFFF,
        (spec.first_timestamp + due.ticks) & 0xFFFFFFFF,
        spec.ssrc,
    )
    return header + payload[: due.payload_bytes]


def _send(sock: socket.socket, packet: bytes, cells: memoryview) -> bool:
    """Whether the packet left. An error reported for an earlier packet does not cost this one."""
    for _ in range(2):
        try:
            sock.send(packet)
            return True
        except ConnectionRefusedError:
            cells[b.REFUSED] += 1
        except OSError:
            break  # full buffer, no route, interface gone
    cells[b.NOT_SENT] += 1
    return False


def _send_stamp(stamps: StampSender, number: int) -> None:
    packet = stamp.SenderPacket(number & 0xFFFFFFFF, ntp.from_unix_ns(time.time_ns()))
    try:
        stamps.sock.send(packet.serialize(stamps.key))
    except OSError:
        pass  # one exchange fewer; the estimate's uncertainty tells
