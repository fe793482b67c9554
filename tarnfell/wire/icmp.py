"""ICMP echo (RFC 792, RFC 4443 §4) and the errors that quote the packet they are about (RFC 792, RFC 4884 not read)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from tarnfell.wire import WireError

ECHO_REPLY, UNREACHABLE, ECHO, TIME_EXCEEDED = 0, 3, 8, 11
FRAGMENTATION_NEEDED = 4
"""Code of UNREACHABLE: the packet is larger than the next link takes (RFC 1191 §4)."""
ECHO6, ECHO_REPLY6 = 128, 129
ECHO_HEAD_BYTES = 8
IP_HEAD_BYTES, IP6_HEAD_BYTES = 20, 40
_ECHO = struct.Struct("!BBHHH")


@dataclass(frozen=True)
class Echo:
    """A request, or an answer to one."""

    identifier: int
    sequence: int
    payload: bytes = b""

    def serialize(self, v6: bool = False) -> bytes:
        """As a request. Over IPv6 the system fills the checksum in: it covers addresses that only it knows."""
        kind = ECHO6 if v6 else ECHO
        head = _ECHO.pack(kind, 0, 0, self.identifier, self.sequence)
        return _ECHO.pack(kind, 0, checksum(head + self.payload), self.identifier, self.sequence) + self.payload

    @staticmethod
    def parse_reply(data: bytes, v6: bool = False) -> Echo:
        """Raises WireError for anything that is no answer."""
        if len(data) < _ECHO.size:
            raise WireError("ICMP: cut short.")
        kind, code, _, identifier, sequence = _ECHO.unpack_from(data)
        if (kind, code) != (ECHO_REPLY6 if v6 else ECHO_REPLY, 0):
            raise WireError("ICMP: no answer to an echo.")
        return Echo(identifier, sequence, data[_ECHO.size :])


@dataclass(frozen=True)
class Quoted:
    """What an error quotes of the packet that caused it, as that packet looked where the error was raised."""

    kind: int
    code: int
    next_mtu: int | None
    """Of a packet that was too large: what the next link takes; None where it is not told."""
    dscp: int
    protocol: int
    source: bytes
    destination: bytes
    payload: bytes
    """From the transport's header on; at least eight bytes (RFC 792)."""


def quoted(data: bytes) -> Quoted:
    """An ICMP error of IPv4, from its own first byte. Raises WireError for anything else."""
    if len(data) < 8 + IP_HEAD_BYTES or data[0] not in (UNREACHABLE, TIME_EXCEEDED):
        raise WireError("ICMP: no error that quotes a packet.")
    inner = data[8:]
    length = 4 * (inner[0] & 15)
    if inner[0] >> 4 != 4 or length < IP_HEAD_BYTES or len(inner) < length + 8:
        raise WireError("ICMP: the quoted packet is cut short.")
    too_large = data[0] == UNREACHABLE and data[1] == FRAGMENTATION_NEEDED
    mtu = int.from_bytes(data[6:8], "big")
    return Quoted(
        data[0], data[1], mtu if too_large and mtu else None, inner[1] >> 2, inner[9], inner[12:16], inner[16:20],
        inner[length:],
    )  # fmt: skip


def without_ip_head(packet: bytes) -> tuple[bytes, bytes, int]:
    """Of a raw IPv4 socket's packet: its source, what it carries, and its TTL. Raises WireError."""
    length = 4 * (packet[0] & 15) if packet else 0
    if length < IP_HEAD_BYTES or len(packet) < length or packet[0] >> 4 != 4:
        raise WireError("IPv4: no whole header.")
    return packet[12:16], packet[length:], packet[8]


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    if len(data) % 2:
        data += b"\0"
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF
