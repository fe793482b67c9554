"""What a system tells of a TCP connection, and how its send buffer is kept short."""

from __future__ import annotations

import socket
import struct
from dataclasses import dataclass

_TCP_CONGESTION, _TCP_INFO, _TCP_NOTSENT_LOWAT = 13, 11, 25
COMMON_CONGESTION = b"cubic"
"""RFC 9438; what Linux, Windows and macOS use unless told otherwise."""
_UNSENT_BYTES = 1 << 17
_RTT = struct.Struct("=I")
_RTT_AT, _LEAST_RTT_AT = 68, 148
_BUSY = struct.Struct("=QQQ")
_BUSY_AT = 168
_SENT = struct.Struct("=QQ")
_SENT_AT = 200
"""Offsets in struct tcp_info of Linux from 4.19 on; older kernels tell less of it."""


@dataclass(frozen=True)
class TcpFacts:
    """A sending end. None where the system does not tell."""

    sent_bytes: int | None = None
    retransmitted_bytes: int | None = None
    busy_us: int | None = None
    """The time in which there was something to send."""
    receiver_limited_us: int | None = None
    """Of it, waiting for room at the receiver."""
    sender_limited_us: int | None = None
    """Of it, waiting for room in its own send buffer."""
    rtt_us: int | None = None
    """Smoothed (RFC 6298), as it was last."""
    least_rtt_us: int | None = None


def facts_of(sock: socket.socket) -> TcpFacts:
    try:
        told = sock.getsockopt(socket.IPPROTO_TCP, _TCP_INFO, 256)
    except OSError:
        return TcpFacts()
    busy = _BUSY.unpack_from(told, _BUSY_AT) if len(told) >= _BUSY_AT + _BUSY.size else (None, None, None)
    sent = _SENT.unpack_from(told, _SENT_AT) if len(told) >= _SENT_AT + _SENT.size else (None, None)
    smoothed, least = (
        _RTT.unpack_from(told, at)[0] if len(told) >= at + _RTT.size else None for at in (_RTT_AT, _LEAST_RTT_AT)
    )
    return TcpFacts(sent[0], sent[1], busy[0], busy[1], busy[2], smoothed, least)


def congestion_of(sock: socket.socket) -> str | None:
    try:
        return sock.getsockopt(socket.IPPROTO_TCP, _TCP_CONGESTION, 16).rstrip(b"\0").decode()
    except (OSError, UnicodeDecodeError):
        return None


def prepare(sock: socket.socket) -> None:
    """Fill as most uploads in the world do, and leave what cannot be sent yet with the program, so that ending the
    stream ends its traffic. What the system does not have is left as it is."""
    for option, value in ((_TCP_CONGESTION, COMMON_CONGESTION), (_TCP_NOTSENT_LOWAT, _UNSENT_BYTES)):
        try:
            sock.setsockopt(socket.IPPROTO_TCP, option, value)
        except OSError:
            pass


def drop(sock: socket.socket) -> None:
    """Close at once, without sending what is left (RFC 9293 §3.10.5: ABORT)."""
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    except OSError:
        pass
    sock.close()
