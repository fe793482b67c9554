"""UDP sockets that carry marked media and tell when, how marked and from how far each packet came."""

from __future__ import annotations

import socket
import struct
import time
from dataclasses import dataclass
from typing import Any

from tarnfell.media import host

# Linux constants that the standard library does not name.
_SO_TIMESTAMPNS = 35
_SO_RXQ_OVFL = 40
_IP_RECVTOS, _IP_TOS = 13, 1
_IP_RECVTTL, _IP_TTL = 12, 2
_IPV6_RECVTCLASS, _IPV6_TCLASS = 66, 67
_IPV6_RECVHOPLIMIT, _IPV6_HOPLIMIT = 51, 52

BUFFER_BYTES = 1 << 20
MAX_PACKET = 2048
_ANCILLARY = 256
_TIMESPEC = struct.Struct("@qq")
_INT = struct.Struct("@i")


@dataclass(frozen=True)
class Arrival:
    """One packet as received. ``dscp`` and ``ttl`` are None where the system does not tell."""

    data: bytes
    source: Any
    time_ns: int
    kernel_stamp: bool
    dscp: int | None
    ttl: int | None
    queue_drops: int
    """Packets this socket's queue has dropped so far, as far as this packet knows."""


def open_media_socket(family: int, address: str, port: int = 0, dscp: int = 0) -> socket.socket:
    """A non-blocking UDP socket bound to ``address``, sending with ``dscp``. Raises OSError."""
    sock = socket.socket(family, socket.SOCK_DGRAM)
    try:
        _prepare(sock, family, dscp)
        sock.bind((address, port))
    except OSError:
        sock.close()
        raise
    sock.setblocking(False)
    return sock


def _prepare(sock: socket.socket, family: int, dscp: int) -> None:
    v6 = family == socket.AF_INET6
    for option in (socket.SO_RCVBUF, socket.SO_SNDBUF):
        _try(sock, socket.SOL_SOCKET, option, BUFFER_BYTES)
    if v6:
        _try(sock, socket.IPPROTO_IPV6, _IPV6_TCLASS, dscp << 2)
    else:
        _try(sock, socket.IPPROTO_IP, socket.IP_TOS, dscp << 2)
    ask_for_all(sock)


def ask_for_all(sock: socket.socket) -> None:
    """Have the system tell with each packet when it came, how marked and from how far, as ``receive`` reads it."""
    if host.HERE.linux:
        v6 = sock.family == socket.AF_INET6
        _try(sock, socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
        _try(sock, socket.SOL_SOCKET, _SO_RXQ_OVFL, 1)
        if v6:
            _try(sock, socket.IPPROTO_IPV6, _IPV6_RECVTCLASS, 1)
            _try(sock, socket.IPPROTO_IPV6, _IPV6_RECVHOPLIMIT, 1)
        else:
            _try(sock, socket.IPPROTO_IP, _IP_RECVTOS, 1)
            _try(sock, socket.IPPROTO_IP, _IP_RECVTTL, 1)


def _try(sock: socket.socket, level: int, option: int, value: int) -> None:
    try:
        sock.setsockopt(level, option, value)
    except OSError:
        pass  # the system cannot do it; what is then missing is reported with the result


def receive(sock: socket.socket) -> Arrival | None:
    """The next waiting packet, or None. Raises ConnectionRefusedError when the peer's port answered closed."""
    try:
        if not host.HERE.linux:
            data, source = sock.recvfrom(MAX_PACKET)
            return Arrival(data, source, time.time_ns(), False, None, None, 0)
        data, ancillary, _flags, source = sock.recvmsg(MAX_PACKET, _ANCILLARY)
    except (BlockingIOError, InterruptedError):
        return None
    stamp = 0
    dscp = ttl = None
    drops = 0
    for level, kind, value in ancillary:
        if level == socket.SOL_SOCKET:
            if kind == _SO_TIMESTAMPNS and len(value) >= _TIMESPEC.size:
                seconds, nanoseconds = _TIMESPEC.unpack_from(value)
                stamp = seconds * 1_000_000_000 + nanoseconds
            elif kind == _SO_RXQ_OVFL:
                drops = int.from_bytes(value[:4], "little")
        elif level == socket.IPPROTO_IP:
            if kind == _IP_TOS:
                dscp = value[0] >> 2
            elif kind == _IP_TTL:
                ttl = _INT.unpack_from(value)[0]
        elif level == socket.IPPROTO_IPV6:
            if kind == _IPV6_TCLASS:
                dscp = _INT.unpack_from(value)[0] >> 2
            elif kind == _IPV6_HOPLIMIT:
                ttl = _INT.unpack_from(value)[0]
    return Arrival(data, source, stamp or time.time_ns(), stamp != 0, dscp, ttl, drops)
