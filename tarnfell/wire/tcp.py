"""The first packets of a TCP connection (RFC 9293 §3.1): one that opens it, and what answers that."""

from __future__ import annotations

import socket
import struct
from dataclasses import dataclass

from tarnfell.wire import WireError
from tarnfell.wire.icmp import checksum

_HEAD = struct.Struct("!HHIIBBHHH")
HEAD_BYTES = _HEAD.size
_SYN, _RST, _ACK = 0x02, 0x04, 0x10
_WINDOW = 65535
_MSS = struct.pack("!BBH", 2, 4, 1460)
_PROTOCOL = 6


def opening(own: str, own_port: int, address: str, port: int, number: int) -> bytes:
    """A SYN with its checksum; addresses are of IPv4."""

    def head(total: int) -> bytes:
        offset = (HEAD_BYTES + len(_MSS)) // 4 << 4
        return _HEAD.pack(own_port, port, number & 0xFFFFFFFF, 0, offset, _SYN, _WINDOW, total, 0) + _MSS

    bare = head(0)
    pseudo = socket.inet_aton(own) + socket.inet_aton(address) + struct.pack("!BBH", 0, _PROTOCOL, len(bare))
    return head(checksum(pseudo + bare))


@dataclass(frozen=True)
class Answer:
    """To a SYN: the port is open, or it is not."""

    from_port: int
    to_port: int
    acknowledged: int

    @staticmethod
    def parse(data: bytes) -> Answer:
        """From TCP's header on. Raises WireError for anything that answers no SYN."""
        if len(data) < HEAD_BYTES:
            raise WireError("TCP: cut short.")
        from_port, to_port, _, acknowledged, _, flags, *_ = _HEAD.unpack_from(data)
        if not flags & _ACK or not flags & (_SYN | _RST):
            raise WireError("TCP: no answer to the opening of a connection.")
        return Answer(from_port, to_port, acknowledged)
