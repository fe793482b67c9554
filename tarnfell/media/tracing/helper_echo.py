"""ICMP echoes by Windows' own helper library, which needs no right: a call that waits for each, in a thread of its own.

``IcmpSendEcho`` of iphlpapi.dll, by ctypes. It tells whole milliseconds; the time here is the caller's own clock.
"""

from __future__ import annotations

import ctypes
import queue
import socket
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

from tarnfell.media.tracing.errors import CannotAsk

TIMEOUT_MS = 2000
DONT_FRAGMENT = 0x2
SUCCESS, TOO_BIG, TIMED_OUT, EXPIRED = 0, 11009, 11010, 11013
UNREACHABLE = range(11002, 11006)
"""Net, host, protocol and port."""
_AT_ONCE = 32
_LIFETIME = 128


class Options(ctypes.Structure):
    """IP_OPTION_INFORMATION."""

    _fields_ = (
        ("ttl", ctypes.c_uint8), ("tos", ctypes.c_uint8), ("flags", ctypes.c_uint8), ("size", ctypes.c_uint8),
        ("data", ctypes.c_void_p),
    )  # fmt: skip


class Reply(ctypes.Structure):
    """ICMP_ECHO_REPLY."""

    _fields_ = (
        ("address", ctypes.c_uint32), ("status", ctypes.c_uint32), ("rtt_ms", ctypes.c_uint32),
        ("data_size", ctypes.c_uint16), ("reserved", ctypes.c_uint16), ("data", ctypes.c_void_p), ("options", Options),
    )  # fmt: skip


@dataclass(frozen=True)
class Told:
    """What became of one echo."""

    number: int
    rtt_ms: float | None
    """None where neither an answer came nor a router's word that its lifetime ended."""
    ttl: int | None = None
    refused_by: str | None = None
    too_large: bool = False
    expired_at: str | None = None
    """The router where its lifetime ended, ``rtt_ms`` after it was sent."""


Load = Callable[[], Any]


def library() -> Any:
    """Raises CannotAsk where there is none."""
    try:
        return ctypes.WinDLL("iphlpapi")  # type: ignore[attr-defined]
    except (AttributeError, OSError):
        raise CannotAsk("This system has no helper library for ICMP echo.") from None


class HelperEchoes:
    """Echoes of one size to IPv4 addresses. ``sock`` can be read once something is ``told``."""

    def __init__(self, payload: bytes, load: Load = library) -> None:
        self._library, self._payload = load(), payload
        self._library.IcmpCreateFile.restype = ctypes.c_void_p
        self._handle = self._library.IcmpCreateFile()
        if self._handle in (None, ctypes.c_void_p(-1).value):
            raise CannotAsk("Windows lets the probe send no ICMP echo.")
        self._told: queue.Queue[Told] = queue.Queue()
        self.sock, self._bell = socket.socketpair()
        self.sock.setblocking(False)
        self._pool = ThreadPoolExecutor(max_workers=_AT_ONCE)

    def send(self, echoes: Sequence[tuple[int, str]], lifetime: int = _LIFETIME, dscp: int = 0) -> None:
        """A number and an address each."""
        for number, address in echoes:
            self._pool.submit(self._one, number, address, lifetime, dscp)

    def told(self) -> list[Told]:
        """What came since it was asked last."""
        try:
            while self.sock.recv(4096):
                pass
        except OSError:
            pass  # nothing rings any more
        found = []
        while True:
            try:
                found.append(self._told.get_nowait())
            except queue.Empty:
                return found

    def close(self) -> None:
        self._pool.shutdown(wait=True)
        self._library.IcmpCloseHandle(ctypes.c_void_p(self._handle))
        self.sock.close()
        self._bell.close()

    def _one(self, number: int, address: str, lifetime: int, dscp: int) -> None:
        room = ctypes.create_string_buffer(ctypes.sizeof(Reply) + len(self._payload) + 64)
        options = Options(ttl=lifetime, tos=dscp << 2, flags=DONT_FRAGMENT)
        to = ctypes.c_uint32(int.from_bytes(socket.inet_aton(address), "little"))
        begun = time.perf_counter_ns()
        count = self._library.IcmpSendEcho(
            ctypes.c_void_p(self._handle), to, self._payload, len(self._payload), ctypes.byref(options), room,
            len(room), TIMEOUT_MS,
        )  # fmt: skip
        took_ms = (time.perf_counter_ns() - begun) / 1e6
        self._told.put(_told_of(number, count, Reply.from_buffer(room), took_ms))
        try:
            self._bell.send(b"!")
        except OSError:
            pass  # nobody listens any more


def _told_of(number: int, count: int, reply: Reply, took_ms: float) -> Told:
    if count and reply.status == SUCCESS:
        return Told(number, took_ms, int(reply.options.ttl) or None)
    if reply.status == TOO_BIG:
        return Told(number, None, too_large=True)
    sender = socket.inet_ntoa(int(reply.address).to_bytes(4, "little"))
    if reply.status == EXPIRED:
        return Told(number, took_ms, expired_at=sender)
    if reply.status in UNREACHABLE:
        return Told(number, None, refused_by="this machine" if sender == "0.0.0.0" else sender)
    return Told(number, None)
