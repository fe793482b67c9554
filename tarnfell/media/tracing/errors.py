"""The queue of errors that Linux keeps beside a socket (ip(7), IP_RECVERR): who said what about which packet."""

from __future__ import annotations

import socket
import struct
from dataclasses import dataclass

from tarnfell.media import host

_IP_RECVERR, _IPV6_RECVERR = 11, 25
_MSG_ERRQUEUE = 0x2000
_ORIGIN_LOCAL = 1
_EXTENDED = struct.Struct("@IBBBBII")
_ROOM = 2048


class CannotAsk(RuntimeError):
    """This system does not let the program ask; the text says what is missing."""


@dataclass(frozen=True)
class NetworkError:
    """One error that came back for a packet this socket sent."""

    kind: int
    """ICMP's type and code; 0 where this machine itself would not send."""
    code: int
    info: int
    """Of a packet that was too large: what the next link takes."""
    errno: int
    sender: str | None
    """Who raised it; None for this machine."""
    payload: bytes
    """What the packet carried, as far as it was quoted."""


def want_errors(sock: socket.socket) -> bool:
    """Whether this system keeps such a queue."""
    if not host.HERE.linux:
        return False  # the option's number means something else there
    v6 = sock.family == socket.AF_INET6
    try:
        sock.setsockopt(socket.IPPROTO_IPV6 if v6 else socket.IPPROTO_IP, _IPV6_RECVERR if v6 else _IP_RECVERR, 1)
    except OSError:
        return False
    return True


def next_error(sock: socket.socket) -> NetworkError | None:
    """None where no more is waiting."""
    try:
        payload, ancillary, _, _ = sock.recvmsg(_ROOM, 512, _MSG_ERRQUEUE)
    except (BlockingIOError, InterruptedError):
        return None
    for level, kind, value in ancillary:
        if (level, kind) not in ((socket.IPPROTO_IP, _IP_RECVERR), (socket.IPPROTO_IPV6, _IPV6_RECVERR)):
            continue
        errno, origin, icmp_type, code, _, info, _ = _EXTENDED.unpack_from(value)
        sender = None if origin == _ORIGIN_LOCAL else _offender(value[_EXTENDED.size :])
        return NetworkError(icmp_type if sender else 0, code if sender else 0, info, errno, sender, payload)
    return NetworkError(0, 0, 0, 0, None, payload)


def _offender(address: bytes) -> str | None:
    if len(address) < 8:
        return None
    family = int.from_bytes(address[:2], "little" if struct.pack("=H", 1) == b"\1\0" else "big")
    if family == socket.AF_INET:
        return socket.inet_ntop(socket.AF_INET, address[4:8])
    if family == socket.AF_INET6 and len(address) >= 24:
        return socket.inet_ntop(socket.AF_INET6, address[8:24])
    return None
