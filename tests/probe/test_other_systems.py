"""Echoes and paths where it is not Linux: Windows' helper library, of which a stand-in tells here what each address and
router would, and a socket as macOS has it. Neither system is at hand."""

from __future__ import annotations

import ctypes
import select
import socket
import threading
from typing import Any

import pytest

from tarnfell.media import host
from tarnfell.media.tracing import flows, helper_echo, tracer
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.helper_echo import (
    DONT_FRAGMENT,
    EXPIRED,
    SUCCESS,
    TIMED_OUT,
    TOO_BIG,
    Options,
    Reply,
)
from tarnfell.probe.asking import echo
from tarnfell.wire.kinds.path import Method

GOOD, FAR, SILENT, NARROW = "192.0.2.1", "192.0.2.9", "192.0.2.50", "192.0.2.99"
ROUTER = "198.51.100.1"
ROUTE = ("10.0.0.1", None, ROUTER)
"""Of which one tells nobody; then comes the address."""


def as_number(address: str) -> int:
    """As the library has addresses: in the order of the network, read as the machine reads numbers."""
    return int.from_bytes(socket.inet_aton(address), "little")


class Function:
    def __init__(self, work: Any) -> None:
        self._work, self.restype = work, None

    def __call__(self, *arguments: Any) -> Any:
        return self._work(*arguments)


class Library:
    def __init__(self, handle: int = 7) -> None:
        self.asked: list[tuple[str, int, int]] = []
        self.marked: set[int] = set()
        self.lifetimes: list[int] = []
        self.closed: list[int] = []
        self._lock = threading.Lock()
        self.IcmpCreateFile = Function(lambda: handle)
        self.IcmpCloseHandle = Function(lambda one: self.closed.append(one.value))
        self.IcmpSendEcho = Function(self._send)

    def _send(
        self, handle: Any, to: Any, payload: bytes, size: int, options: Any, room: Any, room_size: int, limit_ms: int
    ) -> int:
        address = socket.inet_ntoa(to.value.to_bytes(4, "little"))
        given = ctypes.cast(options, ctypes.POINTER(Options)).contents
        with self._lock:
            self.asked.append((address, size, given.flags))
            self.marked.add(given.tos)
            self.lifetimes.append(given.ttl)
        assert (handle.value, len(payload)) == (7, size)
        assert room_size >= ctypes.sizeof(Reply) + size + 8
        reply = Reply.from_buffer(room)
        if given.ttl <= len(ROUTE):
            router = ROUTE[given.ttl - 1]
            reply.status, reply.address = (EXPIRED, as_number(router)) if router else (TIMED_OUT, 0)
            return 1 if router else 0
        if address == GOOD:
            reply.status, reply.address, reply.options.ttl = SUCCESS, as_number(address), 61
            return 1
        if address == FAR:
            reply.status, reply.address = 11003, as_number(ROUTER)
            return 1
        reply.status = TOO_BIG if address == NARROW else TIMED_OUT
        return 0


@pytest.fixture
def windows(monkeypatch: pytest.MonkeyPatch) -> Library:
    one = Library()

    def no_socket(_family: int) -> Any:
        raise CannotAsk("no right")

    monkeypatch.setattr(host, "HERE", host.Platform(linux=False, windows=True, forks=False))
    monkeypatch.setattr(echo, "_open", no_socket)
    monkeypatch.setattr(helper_echo, "library", lambda: one)
    monkeypatch.setattr(helper_echo.HelperEchoes.__init__, "__defaults__", (lambda: one,))
    return one


def test_each_answer_is_told_as_a_socket_would(windows: Library) -> None:
    targets = [("gateway", GOOD), ("far-end", FAR), ("outside", SILENT), ("edge", NARROW)]
    good, far, silent, narrow = echo.echoes(targets, 3, 0.01, 1400, wait_s=30.0)  # type: ignore[arg-type]
    assert (good.sent, good.answered, good.ttl, good.too_large) == (3, 3, 61, False)
    assert all(0 <= rtt < 10_000 for rtt in good.rtt_ms)
    assert (far.sent, far.answered, far.refused_by) == (3, 0, ROUTER)
    assert (silent.sent, silent.answered, silent.refused_by, silent.too_large) == (3, 0, None, False)
    assert (narrow.answered, narrow.too_large) == (0, True)
    assert sorted({address for address, _, _ in windows.asked}) == sorted([GOOD, FAR, SILENT, NARROW])
    # IP's header and ICMP's are in the size that was asked for, and nothing is cut on the way.
    assert {(size, flags) for _, size, flags in windows.asked} == {(1400 - 28, DONT_FRAGMENT)}
    assert windows.closed == [7]


def test_echoes_for_as_long_as_somebody_looks(windows: Library) -> None:
    timed = echo.TimedEchoes([("gateway", GOOD)], (64, 1400))
    timed.send_round()
    timed.send_round()
    while any(len(one.rtt_ms) < 2 for one in timed.found):
        timed.listen(0.0)
    small, large = timed.found
    assert (len(small.sent_us), small.ttls, small.reordered, small.duplicates) == (2, {61}, 0, 0)
    assert (small.packet_bytes, large.packet_bytes) == (64, 1400)
    timed.close()


@pytest.mark.parametrize("address", ["2001:db8::1", GOOD])
def test_what_it_cannot_do_is_said(windows: Library, monkeypatch: pytest.MonkeyPatch, address: str) -> None:
    monkeypatch.setattr(
        helper_echo.HelperEchoes.__init__, "__defaults__", (lambda: Library(ctypes.c_void_p(-1).value or 0),)
    )
    with pytest.raises(CannotAsk):
        echo.echoes([("gateway", address)], 1, 0.0)


def test_windows_shows_the_way_by_its_own_call(windows: Library) -> None:
    found = tracer.path(GOOD, 9, rounds=3, dscp=46, wait_s=0.5)
    assert (found.method, found.reached, found.sees_marking) == ("icmp", True, False)
    assert [(hop.ttl, hop.address, hop.sent) for hop in found.hops] == [
        (n, address, 3) for n, address in enumerate((*ROUTE, GOOD), 1)
    ]
    assert found.hops[1].rtt_ms == ()
    assert all(0 <= ms < 500 for hop in found.hops for ms in hop.rtt_ms)
    assert windows.marked == {46 << 2}
    assert sorted(windows.lifetimes) == sorted([*range(1, 7), *range(1, 5), *range(1, 5)])
    assert windows.closed == [7]


@pytest.mark.parametrize("method", ["udp", "tcp"])
def test_windows_says_what_way_it_does_not_show(windows: Library, method: Method) -> None:
    with pytest.raises(CannotAsk, match=f"Windows shows a program no path by {method.upper()}"):
        tracer.path(GOOD, 9, method=method)
    with pytest.raises(CannotAsk, match="over IPv4 only"):
        tracer.path("2001:db8::1", 9)


def test_an_answer_that_comes_after_its_round_is_nobodys(windows: Library) -> None:
    entered, held = threading.Event(), threading.Event()
    answer = windows.IcmpSendEcho._work

    def first_waits(*arguments: Any) -> Any:
        first = not entered.is_set()
        entered.set()
        assert not first or held.wait(60)
        return answer(*arguments)

    windows.IcmpSendEcho._work = first_waits
    flow = flows.HelperFlow(GOOD, 0, 0)
    flow.send(1)
    assert entered.wait(60)
    flow.send(1)
    found: list[flows.Heard] = []
    while not found:
        select.select(flow.sockets(), [], [], 60)
        found += flow.take()
    assert [(one.ttl, one.sender, one.is_end) for one in found] == [(1, ROUTE[0], False)]
    held.set()
    flow._echoes._pool.shutdown(wait=True)
    assert list(flow.take()) == []
    flow.close()


def test_other_systems_have_no_such_library() -> None:
    with pytest.raises(CannotAsk, match="no helper library"):
        helper_echo.library()


def test_a_socket_for_echoes_alone_is_given_ips_header_where_it_is_not_linux(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(host, "HERE", host.Platform(linux=False, windows=False, forks=True))
    here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    here.setblocking(False)
    monkeypatch.setattr(echo, "_open", lambda _family: (here, False))
    one = echo.Echoed("gateway", GOOD, 64)
    asker = echo._Asker(socket.AF_INET, [one], 64)
    one.sent_us[1] = 1_000_000
    asker._sent[1] = (one, 1_000_000_000)
    reply = b"\x00\x00\x00\x00\x12\x34\x00\x01"
    head = bytes([0x45, 0, 0, 28, 0, 0, 0, 0, 57, 1, 0, 0]) + socket.inet_aton(GOOD) + bytes(4)
    asker._take_answer(head + reply, GOOD, 1_020_000_000, None)
    assert (one.rtt_ms, one.ttl) == ({1: 20.0}, 57)
    there.close()
    asker.close()
