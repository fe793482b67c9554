"""Echoes by Windows' helper library, of which a stand-in tells here what each address would: no Windows is at hand."""

from __future__ import annotations

import ctypes
import socket
import threading
from typing import Any

import pytest

from tarnfell.media import host
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.probe.asking import echo, helper_echo
from tarnfell.probe.asking.helper_echo import DONT_FRAGMENT, SUCCESS, TIMED_OUT, TOO_BIG, Options, Reply

GOOD, FAR, SILENT, NARROW = "192.0.2.1", "192.0.2.9", "192.0.2.50", "192.0.2.99"
ROUTER = "198.51.100.1"


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
        self.closed: list[int] = []
        self._lock = threading.Lock()
        self.IcmpCreateFile = Function(lambda: handle)
        self.IcmpCloseHandle = Function(lambda one: self.closed.append(one.value))
        self.IcmpSendEcho = Function(self._send)

    def _send(
        self, handle: Any, to: Any, payload: bytes, size: int, options: Any, room: Any, room_size: int, limit_ms: int
    ) -> int:
        address = socket.inet_ntoa(to.value.to_bytes(4, "little"))
        flags = ctypes.cast(options, ctypes.POINTER(Options)).contents.flags
        with self._lock:
            self.asked.append((address, size, flags))
        assert (handle.value, len(payload)) == (7, size)
        assert room_size >= ctypes.sizeof(Reply) + size + 8
        reply = Reply.from_buffer(room)
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
