"""Media of a short call that signalling set up: so many packets at their interval, each as it left and as it arrived.

One end begins; the other sends to where that end's packets come from (symmetric RTP, RFC 4961), and to nobody before.
"""

from __future__ import annotations

import secrets
import socket
import time
from typing import Any

from tarnfell.media.sockets import receive
from tarnfell.wire import WireError
from tarnfell.wire.kinds.signalling import MAX_ARRIVALS, ArrivedPackets, SentPackets
from tarnfell.wire.rtp import RtpPacket

PACKETS, PTIME_NS = 50, 20_000_000
PAYLOAD_TYPE, PAYLOAD_BYTES = 8, 160
LENGTH_S = PACKETS * PTIME_NS / 1e9
_AT_ONCE = 64


class ShortCall:
    """One end of it. ``turn`` is called again and again, at the latest after as long as it says."""

    def __init__(self, sock: socket.socket, peer: str, dscp: int) -> None:
        self.socket = sock
        self._peer = peer
        self._dscp = dscp
        self._to: Any = None
        self._ssrc = secrets.randbelow((1 << 32) - 1) + 1
        self._first = secrets.randbelow(1 << 15)
        self._next_ns = 0
        self._sent_us: list[int] = []
        self._theirs = 0
        self._arrived: list[tuple[int, int, int | None]] = []

    def begin(self, to: Any) -> None:
        """Send from now on, to this address."""
        self._to, self._next_ns = to, time.monotonic_ns()

    @property
    def has_sent_all(self) -> bool:
        return len(self._sent_us) >= PACKETS

    @property
    def has_all(self) -> bool:
        return self.has_sent_all and len(self._arrived) >= PACKETS

    def turn(self) -> float:
        """Send what is due, take what came; seconds until something is due again, one where nothing is."""
        self.take()
        if self._to is None or self.has_sent_all:
            return 1.0
        while not self.has_sent_all and time.monotonic_ns() >= self._next_ns:
            self._send()
            self._next_ns += PTIME_NS
        return max(0.0, (self._next_ns - time.monotonic_ns()) / 1e9)

    def _send(self) -> None:
        number = len(self._sent_us)
        packet = RtpPacket(
            PAYLOAD_TYPE, self._first + number, number * PAYLOAD_BYTES, self._ssrc, number == 0,
            payload=bytes(PAYLOAD_BYTES),
        ).serialize()  # fmt: skip
        self._sent_us.append(time.time_ns() // 1000)
        try:
            self.socket.sendto(packet, self._to)
        except OSError:
            pass  # then it does not arrive

    def take(self) -> None:
        """What has come; by itself when the call is over, for an end that stood still meanwhile: nothing is sent then,
        which the other would no longer wait for."""
        for _ in range(_AT_ONCE):
            try:
                arrival = receive(self.socket)
            except OSError:
                return
            if arrival is None:
                return
            if arrival.source[0] != self._peer or len(self._arrived) >= MAX_ARRIVALS:
                continue
            try:
                packet = RtpPacket.parse(arrival.data)
            except WireError:
                continue
            if packet.payload_type != PAYLOAD_TYPE or self._theirs not in (0, packet.ssrc):
                continue
            self._theirs = packet.ssrc
            self._arrived.append((packet.sequence_number, arrival.time_ns // 1000, arrival.dscp))
            if self._to is None:
                self.begin(arrival.source)

    def sent(self) -> SentPackets:
        return SentPackets(self._ssrc, self._first, self._dscp, tuple(self._sent_us))

    def arrived(self) -> ArrivedPackets:
        marks = [dscp for _, _, dscp in self._arrived if dscp is not None]
        return ArrivedPackets(
            self._theirs,
            tuple(seq for seq, _, _ in self._arrived),
            tuple(at_us for _, at_us, _ in self._arrived),
            tuple(marks) if len(marks) == len(self._arrived) else (),
        )
