"""Packets of one flow that end at the hop they are told to: by UDP, by ICMP echo, by the first packet of TCP.

All packets of a flow have the same addresses and ports, and those of ICMP the same checksum, so that routers which
share their load among lines send all of them the same way (RFC 2991). Which hop a packet was to end at is told by what
an error quotes of it: its length over UDP, its number over ICMP and TCP.
"""

from __future__ import annotations

import secrets
import socket
import struct
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from tarnfell.media import host
from tarnfell.media.sockets import BUFFER_BYTES, ask_for_all, receive
from tarnfell.media.tracing.errors import CannotAsk, next_error, want_errors
from tarnfell.media.tracing.helper_echo import HelperEchoes
from tarnfell.wire import WireError, tcp
from tarnfell.wire.icmp import TIME_EXCEEDED, UNREACHABLE, Echo, Quoted, quoted, without_ip_head
from tarnfell.wire.kinds.path import Method

LEAST_BYTES = 32
_UDP_HEAD_BYTES = 8
_TIME_EXCEEDED6, _UNREACHABLE6 = 3, 1
_PORT_CODES = {False: 3, True: 4}
_IPV6_TCLASS, _IPV6_UNICAST_HOPS = 67, 16


@dataclass(frozen=True)
class Heard:
    """What came back for one packet."""

    ttl: int
    """The hop it was to end at."""
    sender: str
    at_ns: int
    dscp: int | None
    """How it was marked when it got there; None where the system does not show it."""
    is_end: bool
    """The address itself answered."""


class Flow(Protocol):
    address: str
    port: int
    dscp: int
    method: Method
    sees_marking: bool

    def sockets(self) -> list[socket.socket]:
        """Readable once something may be waiting."""

    def send(self, ttl: int) -> None:
        """Raises OSError, which may be about an earlier packet."""

    def take(self) -> Iterator[Heard]:
        """All that is waiting."""

    def close(self) -> None: ...


class UdpFlow:
    method: Method = "udp"

    def __init__(self, sock: socket.socket, address: str, port: int, dscp: int) -> None:
        """By a socket that is connected there and does not wait. Whoever listens there sends back what comes.

        Raises CannotAsk.
        """
        self.address, self.port, self.dscp = address, port, dscp
        self._sock, self._v6 = sock, ":" in address
        self._own_port = sock.getsockname()[1]
        self._queue = want_errors(sock)
        self._raw = None if self._v6 else _raw_icmp()
        if not self._queue and self._raw is None:
            raise CannotAsk("This system does not tell a program which router dropped its packet of UDP.")
        self.sees_marking = self._raw is not None

    @classmethod
    def towards(cls, address: str, port: int, dscp: int) -> UdpFlow:
        """Raises CannotAsk, and OSError where there is no way."""
        sock = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM)
        try:
            sock.setblocking(False)
            _mark(sock, dscp)
            sock.connect((address, port))
            return cls(sock, address, port, dscp)
        except (CannotAsk, OSError):
            sock.close()
            raise

    def sockets(self) -> list[socket.socket]:
        return [self._sock, self._raw] if self._raw else [self._sock]

    def close(self) -> None:
        for sock in self.sockets():
            sock.close()

    def send(self, ttl: int) -> None:
        _set_lifetime(self._sock, ttl)
        self._sock.send(bytes([ttl]).ljust(LEAST_BYTES + ttl, b"\0"))

    def take(self) -> Iterator[Heard]:
        # Where both tell of the same error, what is told first counts: only the raw socket shows the marking.
        if self._raw:
            for told, sender, at_ns in _errors_of(self._raw, socket.IPPROTO_UDP, self.address):
                if int.from_bytes(told.payload[:2], "big") == self._own_port:
                    ttl = int.from_bytes(told.payload[4:6], "big") - _UDP_HEAD_BYTES - LEAST_BYTES
                    yield from _heard(ttl, sender, at_ns, told, self.address)
        while self._queue and (error := next_error(self._sock)) is not None:
            if error.sender and error.payload and not self._raw:
                expired = error.kind == (_TIME_EXCEEDED6 if self._v6 else TIME_EXCEEDED)
                closed = (error.kind, error.code) == (
                    _UNREACHABLE6 if self._v6 else UNREACHABLE, _PORT_CODES[self._v6]
                )  # fmt: skip
                if expired or closed:
                    is_end = closed and error.sender == self.address
                    yield Heard(error.payload[0], error.sender, time.time_ns(), None, is_end)
        while True:
            try:
                came = receive(self._sock)
            except OSError:
                continue  # an error that has been told of already
            if came is None:
                return
            if came.data and len(came.data) == LEAST_BYTES + came.data[0]:
                yield Heard(came.data[0], self.address, came.time_ns, None, True)


class IcmpFlow:
    method: Method = "icmp"

    def __init__(self, sock: socket.socket, raw: bool, address: str, port: int, dscp: int) -> None:
        """A raw socket is given whole packets; so is, where it is not Linux, a socket for echoes alone."""
        self.address, self.port, self.dscp = address, port, dscp
        self._sock, self._v6 = sock, ":" in address
        self._whole = raw or not host.HERE.linux
        self._identifier = secrets.randbelow(1 << 16)
        self.sees_marking = self._whole

    @classmethod
    def towards(cls, address: str, port: int, dscp: int) -> IcmpFlow:
        """Raises CannotAsk."""
        v6 = ":" in address
        if v6 and not host.HERE.linux:
            raise CannotAsk("This system shows a path by ICMP over IPv4 only.")
        raw = None if v6 else _raw_icmp()
        sock = raw or _ping_socket(v6)
        _mark(sock, dscp)
        return cls(sock, raw is not None, address, port, dscp)

    def sockets(self) -> list[socket.socket]:
        return [self._sock]

    def close(self) -> None:
        self._sock.close()

    def send(self, ttl: int) -> None:
        _set_lifetime(self._sock, ttl)
        evened = struct.pack("!H", 0xFFFF - ttl)  # its sum with the number, and so the checksum, is always the same
        packet = Echo(self._identifier, ttl, evened.ljust(LEAST_BYTES, b"\0")).serialize(self._v6)
        self._sock.sendto(packet, (self.address, 0))

    def take(self) -> Iterator[Heard]:
        if not self._whole:
            while (error := next_error(self._sock)) is not None:
                expired = error.kind == (_TIME_EXCEEDED6 if self._v6 else TIME_EXCEEDED)
                if error.sender and expired:
                    yield Heard(int.from_bytes(error.payload[6:8], "big"), error.sender, time.time_ns(), None, False)
        while True:
            try:
                came = receive(self._sock)
            except OSError:
                continue  # an error that has been told of already
            if came is None:
                return
            yield from self._answered(came.data, str(came.source[0]), came.time_ns)

    def _answered(self, data: bytes, sender: str, at_ns: int) -> Iterator[Heard]:
        try:
            if self._whole:
                _, data, _ = without_ip_head(data)
                if data[:1] and data[0] in (TIME_EXCEEDED, UNREACHABLE):
                    told = quoted(data)
                    ours = told.payload[4:6] == self._identifier.to_bytes(2, "big")
                    if told.protocol == socket.IPPROTO_ICMP and ours:
                        yield from _heard(int.from_bytes(told.payload[6:8], "big"), sender, at_ns, told, self.address)
                    return
            echo = Echo.parse_reply(data, self._v6)
        except WireError:
            return  # somebody else's, or nothing of ours
        if sender.partition("%")[0] == self.address and (not self._whole or echo.identifier == self._identifier):
            yield Heard(echo.sequence, self.address, at_ns, None, True)


class HelperFlow:
    """By Windows' own call for echoes, which tells where the lifetime of one ended."""

    method: Method = "icmp"
    sees_marking = False

    def __init__(self, address: str, port: int, dscp: int) -> None:
        """Raises CannotAsk."""
        if ":" in address:
            raise CannotAsk("Windows shows a path by ICMP over IPv4 only.")
        self.address, self.port, self.dscp = address, port, dscp
        self._echoes = HelperEchoes(bytes(LEAST_BYTES))
        self._last = 0
        self._sent: dict[int, tuple[int, int]] = {}
        """Number and time of what was sent last to end at each hop: an answer to what came before is nobody's."""

    def sockets(self) -> list[socket.socket]:
        return [self._echoes.sock]

    def close(self) -> None:
        self._echoes.close()

    def send(self, ttl: int) -> None:
        self._last += 1
        self._sent[ttl] = self._last, time.time_ns()
        self._echoes.send([(self._last, self.address)], ttl, self.dscp)

    def take(self) -> Iterator[Heard]:
        hops = {number: (ttl, sent_ns) for ttl, (number, sent_ns) in self._sent.items()}
        for told in self._echoes.told():
            ttl, sent_ns = hops.get(told.number, (0, 0))
            if ttl and told.rtt_ms is not None:
                # The call took its own time, which does not hold how long it waited for a thread.
                at_ns = sent_ns + round(told.rtt_ms * 1e6)
                yield Heard(ttl, told.expired_at or self.address, at_ns, None, told.expired_at is None)


class TcpFlow:
    """By packets that open a connection, made by hand: each ends as soon as it has been answered."""

    method: Method = "tcp"
    sees_marking = True

    def __init__(self, raw: socket.socket, icmp: socket.socket, address: str, port: int, dscp: int) -> None:
        self.address, self.port, self.dscp = address, port, dscp
        self._raw, self._icmp = raw, icmp
        self._own = raw.getsockname()[0]
        self._held = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        self._held.bind((self._own, 0))  # so that nobody else has this port; what is answered there is reset
        self._own_port = self._held.getsockname()[1]
        self._first = secrets.randbelow(1 << 31)

    @classmethod
    def towards(cls, address: str, port: int, dscp: int) -> TcpFlow:
        """Raises CannotAsk, and OSError where there is no way."""
        if ":" in address:
            raise CannotAsk("A path by TCP is looked for over IPv4 only.")
        if not host.HERE.linux:
            raise CannotAsk("This system shows no path by TCP.")  # its raw sockets are given none of TCP's answers
        icmp = _raw_icmp()
        if icmp is None:
            raise CannotAsk("A path by TCP needs a right to raw sockets, which this program was not given.")
        try:
            raw = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_TCP)
        except OSError:
            icmp.close()
            raise
        try:
            raw.setblocking(False)
            ask_for_all(raw)
            _mark(raw, dscp)
            raw.connect((address, 0))
            return cls(raw, icmp, address, port, dscp)
        except OSError:
            raw.close()
            icmp.close()
            raise

    def sockets(self) -> list[socket.socket]:
        return [self._raw, self._icmp]

    def close(self) -> None:
        for sock in (self._raw, self._icmp, self._held):
            sock.close()

    def send(self, ttl: int) -> None:
        _set_lifetime(self._raw, ttl)
        self._raw.send(tcp.opening(self._own, self._own_port, self.address, self.port, self._first + ttl))

    def take(self) -> Iterator[Heard]:
        for told, sender, at_ns in _errors_of(self._icmp, socket.IPPROTO_TCP, self.address):
            if int.from_bytes(told.payload[:2], "big") == self._own_port:
                ttl = int.from_bytes(told.payload[4:8], "big") - self._first
                yield from _heard(ttl, sender, at_ns, told, self.address)
        while True:
            try:
                came = receive(self._raw)
            except OSError:
                continue  # an error that has been told of already
            if came is None:
                return
            try:
                source, data, _ = without_ip_head(came.data)
                answer = tcp.Answer.parse(data)
            except WireError:
                continue
            ours = (answer.from_port, answer.to_port) == (self.port, self._own_port)
            if ours and socket.inet_ntoa(source) == self.address:
                yield Heard(answer.acknowledged - 1 - self._first, self.address, came.time_ns, None, True)


def _heard(ttl: int, sender: str, at_ns: int, told: Quoted, address: str) -> Iterator[Heard]:
    """Of an error: where a packet's lifetime ended, or the address itself said that nobody listens."""
    closed = (told.kind, told.code) == (UNREACHABLE, _PORT_CODES[False])
    if told.kind == TIME_EXCEEDED or closed:
        yield Heard(ttl, sender, at_ns, told.dscp, closed and sender == address)


def _errors_of(raw: socket.socket, protocol: int, address: str) -> Iterator[tuple[Quoted, str, int]]:
    """What a raw ICMP socket has been told of packets of ``protocol`` to ``address``, by whom and when."""
    while (came := receive(raw)) is not None:
        try:
            _, data, _ = without_ip_head(came.data)
            told = quoted(data)
        except WireError:
            continue
        if told.protocol == protocol and socket.inet_ntoa(told.destination) == address:
            yield told, str(came.source[0]), came.time_ns


def _raw_icmp() -> socket.socket | None:
    """Shows whole errors with what they quote; None where this program has no right to it."""
    try:
        sock = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
    except OSError:
        return None
    sock.setblocking(False)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER_BYTES)  # it is given every error of this machine
    ask_for_all(sock)
    return sock


def _ping_socket(v6: bool) -> socket.socket:
    """Raises CannotAsk."""
    family, protocol = (
        (socket.AF_INET6, socket.IPPROTO_ICMPV6) if v6 else (socket.AF_INET, socket.IPPROTO_ICMP)
    )  # fmt: skip
    try:
        sock = socket.socket(family, socket.SOCK_DGRAM, protocol)
    except OSError:
        raise CannotAsk("A path by ICMP needs a right to send echoes, which this program was not given.") from None
    sock.setblocking(False)
    want_errors(sock)
    ask_for_all(sock)
    return sock


def _mark(sock: socket.socket, dscp: int) -> None:
    v6 = sock.family == socket.AF_INET6
    level, option = (socket.IPPROTO_IPV6, _IPV6_TCLASS) if v6 else (socket.IPPROTO_IP, socket.IP_TOS)
    sock.setsockopt(level, option, dscp << 2)


def _set_lifetime(sock: socket.socket, ttl: int) -> None:
    v6 = sock.family == socket.AF_INET6
    level, option = (socket.IPPROTO_IPV6, _IPV6_UNICAST_HOPS) if v6 else (socket.IPPROTO_IP, socket.IP_TTL)
    sock.setsockopt(level, option, ttl)
