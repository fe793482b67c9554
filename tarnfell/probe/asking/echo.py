"""ICMP echo to several addresses at once: how many answered, how soon, and what came back instead."""

from __future__ import annotations

import ctypes
import errno
import secrets
import selectors
import socket
import struct
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from tarnfell.media import host
from tarnfell.media.sockets import BUFFER_BYTES, ask_for_all, receive
from tarnfell.media.tracing.errors import CannotAsk, next_error, want_errors
from tarnfell.media.tracing.helper_echo import HelperEchoes
from tarnfell.wire import WireError
from tarnfell.wire.icmp import (
    ECHO_HEAD_BYTES,
    ECHO_REPLY,
    FRAGMENTATION_NEEDED,
    IP6_HEAD_BYTES,
    IP_HEAD_BYTES,
    UNREACHABLE,
    Echo,
    quoted,
    without_ip_head,
)
from tarnfell.wire.kinds.check import EchoFacts, Role

SMALL_BYTES = 64
"""A packet of this size on the line, IP's header in it."""
_MARK = b"tarnfell"
_SO_ATTACH_FILTER = 26
_OURS = (
    (0xB1, 0, 0, 0),  # X: length of IP's header
    (0x50, 0, 0, 0),  # type
    (0x15, 4, 0, ECHO_REPLY),
    (0x15, 0, 2, UNREACHABLE),
    (0x50, 0, 0, 8 + 9),  # protocol of the packet that an error quotes
    (0x15, 1, 0, socket.IPPROTO_ICMP),
    (0x06, 0, 0, 0),
    (0x06, 0, 0, 0xFFFFFFFF),
)
"""Answers to echoes and errors about echoes, as a filter of the kernel reads it (classic BPF: code, jumps, value)."""
_IP_MTU_DISCOVER, _IP_PMTUDISC_PROBE = 10, 3
_IPV6_MTU_DISCOVER, _IPV6_PMTUDISC_PROBE = 23, 3
_TOO_BIG6 = 2


@dataclass
class Echoed:
    """What has come of the echoes of one size to one address so far; the fields are those of EchoFacts and more."""

    role: Role
    address: str
    packet_bytes: int
    sent_us: dict[int, int] = field(default_factory=dict)
    """When each echo was sent, by its number."""
    rtt_ms: dict[int, float] = field(default_factory=dict)
    ttl: int | None = None
    ttls: set[int] = field(default_factory=set)
    newest_answered: int = 0
    reordered: int = 0
    duplicates: int = 0
    refused_by: str | None = None
    next_mtu: int | None = None
    too_large: bool = False

    def facts(self) -> EchoFacts:
        return EchoFacts(
            self.role, self.address, self.packet_bytes, len(self.sent_us), len(self.rtt_ms),
            tuple(self.rtt_ms[number] for number in sorted(self.rtt_ms)),
            self.ttl, self.refused_by, self.too_large, self.next_mtu,
        )  # fmt: skip


def echoes(
    targets: Sequence[tuple[Role, str]],
    rounds: int,
    interval_s: float,
    packet_bytes: int = SMALL_BYTES,
    wait_s: float = 1.0,
    go_on: Callable[[], bool] = lambda: True,
) -> tuple[EchoFacts, ...]:
    """``rounds`` packets to every address, never fragmented; the last are waited for ``wait_s``.

    Raises CannotAsk.
    """
    found, askers = _prepared(targets, packet_bytes)
    try:
        _ask(askers, rounds, interval_s, wait_s, go_on)
    finally:
        for asker in askers:
            asker.close()
    return tuple(one.facts() for one in found)


class TimedEchoes:
    """Echoes to some addresses for as long as whoever asks goes on, each with its time. Raises CannotAsk."""

    def __init__(self, targets: Sequence[tuple[Role, str]], sizes: Sequence[int] = (SMALL_BYTES,)) -> None:
        """To each target one of each size a round. Targets stand in their order, once for each size."""
        self.found: list[Echoed] = []
        self._askers: list[_Asker | _HelperAsker] = []
        self._ready = selectors.DefaultSelector()
        for size in sizes:
            found, askers = _prepared(targets, size)
            self.found += found
            self._askers += askers
        for asker in self._askers:
            self._ready.register(asker.sock, selectors.EVENT_READ, asker)

    def send_round(self) -> None:
        for asker in self._askers:
            asker.send_round()

    def listen(self, until: float) -> None:
        """Take answers until then, on the monotonic clock."""
        _listen(self._ready, until, lambda: False)

    def times_of(self, target: int) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """When each was sent, Unix microseconds, and its round trip in microseconds; -1 where no answer has come."""
        one = self.found[target]
        rtt_us = (round(one.rtt_ms[number] * 1000) if number in one.rtt_ms else -1 for number in one.sent_us)
        return tuple(one.sent_us.values()), tuple(rtt_us)

    @property
    def socks(self) -> list[socket.socket]:
        """To wait for answers beside others; then ``listen``."""
        return [asker.sock for asker in self._askers]

    def forget(self, before_us: int) -> None:
        """What was sent before: an answer to it is nobody's any more. For whoever asks for weeks."""
        for one in self.found:
            for number in [number for number, at_us in one.sent_us.items() if at_us < before_us]:
                del one.sent_us[number]
                one.rtt_ms.pop(number, None)
        for asker in self._askers:
            asker.forget()

    def close(self) -> None:
        self._ready.close()
        for asker in self._askers:
            asker.close()


def _prepared(
    targets: Sequence[tuple[Role, str]], packet_bytes: int
) -> tuple[list[Echoed], list[_Asker | _HelperAsker]]:
    """An asker for each address family, of targets in their order."""
    found = [Echoed(role, address, packet_bytes) for role, address in targets]
    by_family: dict[int, list[Echoed]] = {}
    for one in found:
        by_family.setdefault(socket.AF_INET6 if ":" in one.address else socket.AF_INET, []).append(one)
    return found, [_asker(family, own, packet_bytes) for family, own in by_family.items()]


def _asker(family: int, found: list[Echoed], packet_bytes: int) -> _Asker | _HelperAsker:
    if host.HERE.windows and family == socket.AF_INET:
        return _HelperAsker(found, packet_bytes)
    return _Asker(family, found, packet_bytes)


def _ask(
    askers: list[_Asker | _HelperAsker], rounds: int, interval_s: float, wait_s: float, go_on: Callable[[], bool]
) -> None:
    with selectors.DefaultSelector() as ready:
        for asker in askers:
            ready.register(asker.sock, selectors.EVENT_READ, asker)
        due = time.monotonic()
        for _ in range(rounds):
            if not go_on():
                return
            for asker in askers:
                asker.send_round()
            due += interval_s
            _listen(ready, due, lambda: False)
        _listen(ready, time.monotonic() + wait_s, lambda: all(asker.all_answered for asker in askers))


def _listen(ready: selectors.BaseSelector, until: float, enough: Callable[[], bool]) -> None:
    while not enough():
        left = until - time.monotonic()
        # Looked at once more when time is over: this process may have stood still, and what came meanwhile is there.
        for key, _ in ready.select(max(0.0, left)):
            key.data.take()
        if left <= 0:
            return


class _HelperAsker:
    """The echoes to IPv4 addresses by Windows' own call, where a raw socket hears nothing unless it is bound."""

    def __init__(self, found: list[Echoed], packet_bytes: int) -> None:
        head = IP_HEAD_BYTES + ECHO_HEAD_BYTES
        self._echoes = HelperEchoes(_MARK.ljust(max(len(_MARK), packet_bytes - head), b"\0"))
        self.sock = self._echoes.sock
        self._found = found
        self._sent: dict[int, Echoed] = {}
        self._next = 1

    def close(self) -> None:
        self._echoes.close()

    @property
    def all_answered(self) -> bool:
        return not self._sent

    def send_round(self) -> None:
        echoes = []
        for one in self._found:
            number, self._next = self._next, self._next + 1
            one.sent_us[number] = time.time_ns() // 1000
            self._sent[number] = one
            echoes.append((number, one.address))
        self._echoes.send(echoes)

    def forget(self) -> None:
        for number in [number for number, one in self._sent.items() if number not in one.sent_us]:
            del self._sent[number]

    def take(self) -> None:
        for told in self._echoes.told():
            one = self._sent.pop(told.number, None)
            if one is None:
                continue
            if told.rtt_ms is not None:
                _note_answer(one, told.number, told.rtt_ms, told.ttl)
            elif told.too_large:
                one.too_large = True
            elif told.refused_by:
                one.refused_by = told.refused_by


def _note_answer(one: Echoed, number: int, rtt_ms: float, ttl: int | None) -> None:
    one.rtt_ms[number] = rtt_ms
    one.ttl = ttl
    one.reordered += one.sent_us[number] < one.newest_answered
    one.newest_answered = max(one.newest_answered, one.sent_us[number])
    if ttl is not None:
        one.ttls.add(ttl)


class _Asker:
    """The echoes of one address family."""

    def __init__(self, family: int, found: list[Echoed], packet_bytes: int) -> None:
        self._v6 = family == socket.AF_INET6
        self.sock, self._raw = _open(family)
        self._found = found
        self._identifier = secrets.randbelow(1 << 16)
        head = (IP6_HEAD_BYTES if self._v6 else IP_HEAD_BYTES) + ECHO_HEAD_BYTES
        self._payload = _MARK.ljust(max(len(_MARK), packet_bytes - head), b"\0")
        self._sent: dict[int, tuple[Echoed, int]] = {}
        self._next = 1

    def close(self) -> None:
        self.sock.close()

    @property
    def all_answered(self) -> bool:
        return not self._sent

    def send_round(self) -> None:
        for one in self._found:
            number, self._next = self._next, self._next % 0xFFFF + 1
            at_ns = time.time_ns()
            one.sent_us[number] = at_ns // 1000
            self._sent[number] = (one, at_ns)
            try:
                self.sock.sendto(Echo(self._identifier, number, self._payload).serialize(self._v6), (one.address, 0))
            except OSError as error:
                self._sent.pop(number)
                if error.errno == errno.EMSGSIZE:
                    one.too_large = True
                elif error.errno in (errno.ENETUNREACH, errno.EHOSTUNREACH):
                    one.refused_by = "this machine"

    def forget(self) -> None:
        for number in [number for number, (one, _) in self._sent.items() if number not in one.sent_us]:
            del self._sent[number]

    def take(self) -> None:
        """What has come in: answers, and errors about what was asked."""
        while host.HERE.linux and not self._raw:
            said = next_error(self.sock)
            if said is None:
                break
            too_large = (said.kind, said.code) == (UNREACHABLE, FRAGMENTATION_NEEDED) or (
                self._v6 and said.kind == _TOO_BIG6
            )
            self._note_error(int.from_bytes(said.payload[6:8], "big"), said.sender, too_large, said.info or None)
        while True:
            try:
                came = receive(self.sock)
            except OSError:
                continue  # an error that the queue has told of already
            if came is None:
                return
            self._take_answer(came.data, came.source[0], came.time_ns, came.ttl)

    def _take_answer(self, data: bytes, source: str, at_ns: int, ttl: int | None) -> None:
        try:
            # Where it is not Linux, a socket for echoes alone is given IP's header as well.
            if not self._v6 and (self._raw or not host.HERE.linux):
                _, data, ttl = without_ip_head(data)
                if data[:1] and data[0] == UNREACHABLE:
                    self._take_quoted(data, source)
                    return
            echo = Echo.parse_reply(data, self._v6)
        except WireError:
            return  # somebody else's, or nothing of ours
        if self._raw and echo.identifier != self._identifier:
            return
        one, sent_ns = self._sent.get(echo.sequence, (None, 0))
        if one is None:
            self._note_duplicate(echo.sequence, source)
            return
        if source.partition("%")[0] != one.address:
            return
        del self._sent[echo.sequence]
        _note_answer(one, echo.sequence, max(0, at_ns - sent_ns) / 1e6, ttl)

    def _note_duplicate(self, number: int, source: str) -> None:
        for one in self._found:
            if number in one.rtt_ms and source.partition("%")[0] == one.address:
                one.duplicates += 1

    def _take_quoted(self, data: bytes, source: str) -> None:
        told = quoted(data)
        if told.protocol == socket.IPPROTO_ICMP and int.from_bytes(told.payload[4:6], "big") == self._identifier:
            number = int.from_bytes(told.payload[6:8], "big")
            self._note_error(number, source, told.code == FRAGMENTATION_NEEDED, told.next_mtu)

    def _note_error(self, number: int, sender: str | None, too_large: bool, next_mtu: int | None) -> None:
        one, _ = self._sent.pop(number, (None, 0))
        if one is None:
            return
        if too_large:
            one.too_large, one.next_mtu = True, next_mtu
        else:
            one.refused_by = sender or "this machine"


def _open(family: int) -> tuple[socket.socket, bool]:
    """A socket for echoes, and whether it is a raw one. Raises CannotAsk."""
    protocol = socket.IPPROTO_ICMPV6 if family == socket.AF_INET6 else socket.IPPROTO_ICMP
    for kind, raw in ((socket.SOCK_RAW, True), (socket.SOCK_DGRAM, False)):
        try:
            sock = socket.socket(family, kind, protocol)
        except OSError:
            continue
        sock.setblocking(False)
        _never_fragment(sock)
        _make_room(sock, raw and family == socket.AF_INET)
        if not raw and host.HERE.linux:
            want_errors(sock)
        ask_for_all(sock)
        return sock, raw
    raise CannotAsk("This system lets the probe send no ICMP echo: that needs a right it was not given.")


def _make_room(sock: socket.socket, filtered: bool) -> None:
    """A raw socket is given every ICMP message of the machine: what is not asked for must not push answers out."""
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER_BYTES)
        if filtered and host.HERE.linux:
            program = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in _OURS))
            sock.setsockopt(
                socket.SOL_SOCKET, _SO_ATTACH_FILTER, struct.pack("@HP", len(_OURS), ctypes.addressof(program))
            )
    except OSError:
        pass  # then as much as the system gives


def _never_fragment(sock: socket.socket) -> None:
    if not host.HERE.linux:
        return
    if sock.family == socket.AF_INET6:
        sock.setsockopt(socket.IPPROTO_IPV6, _IPV6_MTU_DISCOVER, _IPV6_PMTUDISC_PROBE)
    else:
        sock.setsockopt(socket.IPPROTO_IP, _IP_MTU_DISCOVER, _IP_PMTUDISC_PROBE)
