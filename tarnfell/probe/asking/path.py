"""The way to an address, hop by hop: one flow of UDP packets whose lifetime ends at one router after the other.

Every packet has the same addresses and ports, so that routers which share their load among lines send all of them the
same way (RFC 2991). A packet's length says at which hop it is to end: an error quotes at least the UDP header.
"""

from __future__ import annotations

import selectors
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from tarnfell.media import host
from tarnfell.media.sockets import ask_for_all, receive
from tarnfell.probe.asking.echo import CannotAsk
from tarnfell.probe.asking.errors import next_error, want_errors
from tarnfell.wire import WireError
from tarnfell.wire.icmp import TIME_EXCEEDED, UNREACHABLE, quoted, without_ip_head
from tarnfell.wire.kinds.check import HopFacts, PathFacts

MAX_HOPS = 30
AT_ONCE = 6
"""Hops looked for together; silent ones at the end of the way cost one wait and not thirty."""
SILENT_HOPS = 12
"""After so many in a row that say nothing, the way is taken to end where something was last heard."""
LEAST_BYTES = 32
_UDP_HEAD_BYTES = 8
_TIME_EXCEEDED6, _UNREACHABLE6 = 3, 1
_PORT_CODES = {False: 3, True: 4}


@dataclass
class _Hop:
    """One hop so far; the fields are those of HopFacts."""

    ttl: int
    address: str | None = None
    others: list[str] = field(default_factory=list)
    sent: int = 0
    rtt_ms: list[float] = field(default_factory=list)
    dscp_seen: int | None = None

    def facts(self) -> HopFacts:
        return HopFacts(
            self.ttl, self.address, tuple(self.others), self.sent, tuple(self.rtt_ms), self.dscp_seen
        )  # fmt: skip


def path(
    address: str,
    port: int,
    rounds: int = 5,
    dscp: int = 0,
    wait_s: float = 1.0,
    go_on: Callable[[], bool] = lambda: True,
) -> PathFacts:
    """Raises CannotAsk, and OSError where this machine has no way there at all."""
    if not host.HERE.linux:
        raise CannotAsk("This system does not tell a program which router dropped its packet.")
    tracer = _Tracer(address, port, dscp)
    try:
        length = tracer.find(wait_s, go_on)
        for _ in range(rounds - 1):
            if not go_on():
                break
            tracer.send(range(1, length + 1))
            tracer.listen(wait_s, length)
        return tracer.found(length)
    finally:
        tracer.close()


class _Tracer:
    def __init__(self, address: str, port: int, dscp: int) -> None:
        self._v6 = ":" in address
        self._address, self._to, self._dscp = address, port, dscp
        family = socket.AF_INET6 if self._v6 else socket.AF_INET
        self._sock = socket.socket(family, socket.SOCK_DGRAM)
        self._sock.setblocking(False)
        level = socket.IPPROTO_IPV6 if self._v6 else socket.IPPROTO_IP
        mark, self._lifetime = (67, 16) if self._v6 else (socket.IP_TOS, socket.IP_TTL)
        self._level = level
        self._sock.setsockopt(level, mark, dscp << 2)
        try:
            self._sock.connect((address, port))
        except OSError:
            self._sock.close()
            raise
        self._port = self._sock.getsockname()[1]
        want_errors(self._sock)
        self._raw = None if self._v6 else _raw_icmp()
        self._hops: dict[int, _Hop] = {}
        self._sent_ns: dict[int, int] = {}
        self._end: int | None = None

    def close(self) -> None:
        self._sock.close()
        if self._raw:
            self._raw.close()

    def find(self, wait_s: float, go_on: Callable[[], bool]) -> int:
        """The number of hops to the address, or to the last that says anything."""
        first = 1
        while self._end is None and first <= MAX_HOPS and go_on():
            self.send(range(first, min(first + AT_ONCE, MAX_HOPS + 1)))
            first += AT_ONCE
            self.listen(wait_s, first - 1)
            if first - 1 - self._last_heard() >= SILENT_HOPS:
                break
        return self._end or max(1, self._last_heard())

    def _last_heard(self) -> int:
        return max((ttl for ttl, hop in self._hops.items() if hop.address), default=0)

    def send(self, ttls: range) -> None:
        for ttl in ttls:
            hop = self._hops.setdefault(ttl, _Hop(ttl))
            self._sock.setsockopt(self._level, self._lifetime, ttl)
            payload = bytes([ttl]).ljust(LEAST_BYTES + ttl, b"\0")
            hop.sent += 1
            for _ in range(2):
                self._sent_ns[ttl] = time.time_ns()
                try:
                    self._sock.send(payload)
                    break
                except OSError:
                    continue  # what an earlier packet met is told to the next one that is sent

    def listen(self, wait_s: float, length: int) -> None:
        """Until every hop of this round has answered, or ``wait_s`` are over."""
        until = time.monotonic() + wait_s
        with selectors.DefaultSelector() as ready:
            ready.register(self._sock, selectors.EVENT_READ)
            if self._raw:
                ready.register(self._raw, selectors.EVENT_READ)
            while any(ttl <= min(length, self._end or length) for ttl in self._sent_ns):
                left = until - time.monotonic()
                if ready.select(max(0.0, left)):  # as of echoes: what came while this process stood still counts
                    self._take()
                if left <= 0:
                    break
        self._sent_ns.clear()

    def _take(self) -> None:
        # Where both tell of the same error, what is told first counts: only the raw socket shows the marking.
        while self._raw:
            came = receive(self._raw)
            if came is None:
                break
            self._take_quoted(came.data, str(came.source[0]), came.time_ns)
        while True:
            error = next_error(self._sock)
            if error is None:
                break
            if error.sender and error.payload and not self._raw:
                expired = error.kind == (_TIME_EXCEEDED6 if self._v6 else TIME_EXCEEDED)
                closed = (error.kind, error.code) == (
                    _UNREACHABLE6 if self._v6 else UNREACHABLE, _PORT_CODES[self._v6]
                )  # fmt: skip
                if expired or closed:
                    self._note(error.payload[0], error.sender, time.time_ns(), None, closed)
        try:
            while receive(self._sock):
                pass
        except OSError:
            pass

    def _take_quoted(self, packet: bytes, sender: str, at_ns: int) -> None:
        try:
            _, data, _ = without_ip_head(packet)
            told = quoted(data)
        except WireError:
            return
        ours = int.from_bytes(told.payload[:2], "big") == self._port
        if told.protocol != socket.IPPROTO_UDP or not ours or socket.inet_ntoa(told.destination) != self._address:
            return
        ttl = int.from_bytes(told.payload[4:6], "big") - _UDP_HEAD_BYTES - LEAST_BYTES
        closed = (told.kind, told.code) == (UNREACHABLE, _PORT_CODES[False])
        if told.kind == TIME_EXCEEDED or closed:
            self._note(ttl, sender, at_ns, told.dscp, closed)

    def _note(self, ttl: int, sender: str, at_ns: int, dscp: int | None, closed: bool) -> None:
        hop, sent_ns = self._hops.get(ttl), self._sent_ns.pop(ttl, None)
        if hop is None or sent_ns is None:
            return
        if hop.address is None:
            hop.address = sender
        elif sender != hop.address and sender not in hop.others:
            hop.others.append(sender)
        hop.rtt_ms.append(max(0, at_ns - sent_ns) / 1e6)
        hop.dscp_seen = dscp if dscp is not None else hop.dscp_seen
        if closed and sender == self._address:
            self._end = min(ttl, self._end or ttl)

    def found(self, length: int) -> PathFacts:
        hops = tuple((self._hops.get(ttl) or _Hop(ttl)).facts() for ttl in range(1, length + 1))
        return PathFacts(self._address, self._to, self._dscp, hops, self._end is not None, self._raw is not None)


def _raw_icmp() -> socket.socket | None:
    """Shows whole errors with what they quote; None where this program has no right to it."""
    try:
        sock = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
    except OSError:
        return None
    sock.setblocking(False)
    ask_for_all(sock)
    return sock
