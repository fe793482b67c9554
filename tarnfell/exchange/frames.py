"""From a captured frame to the UDP datagram in it, through whatever it was wrapped in.

Link headers, VLAN tags, MPLS, PPPoE and PPP, GRE, IP in IP and VXLAN are taken off; what remains is judged by the
innermost IP header. Lengths inside the headers say where a datagram ends, so trailers and check sequences do not count.
"""

from __future__ import annotations

import socket
import struct
from dataclasses import dataclass

from tarnfell.exchange.records import Frame

_IP4, _IP6, _TEB = 0x0800, 0x86DD, 0x6558
_TAGS = (0x8100, 0x88A8, 0x9100)
_MPLS = (0x8847, 0x8848)
_PPPOE, _PPP = 0x8864, 0x880B
_UDP, _GRE = 17, 47
_PPP_PROTOCOLS = {0x0021: _IP4, 0x0057: _IP6}
_FAMILIES = {2: _IP4, 10: _IP6, 23: _IP6, 24: _IP6, 28: _IP6, 30: _IP6}
_VXLAN_PORT = 4789
_MOST_LAYERS = 12
_RAW_LINKS = (12, 14, 101, 228, 229)
KNOWN_LINKS = frozenset({0, 1, 9, 50, 51, 104, 105, 108, 113, 127, 276, *_RAW_LINKS})


@dataclass(frozen=True)
class Datagram:
    at_us: int
    source: str
    """Address and port."""
    destination: str
    dscp: int
    payload: bytes
    whole: bool
    """Whether all of the payload was captured."""
    wrapped: bool
    """Whether it came through a tunnel, whose own marking is not seen here."""


def datagram_of(frame: Frame) -> Datagram | None:
    """The innermost UDP datagram; None for anything else, damaged headers included."""
    try:
        return _datagram(frame)
    except (struct.error, IndexError, ValueError):
        return None


def _datagram(frame: Frame) -> Datagram | None:
    data = frame.data
    kind, at = _below(frame.link, data)
    wrapped = False
    for _ in range(_MOST_LAYERS):
        if kind in _TAGS:
            kind, at = _word(data, at + 2), at + 4
        elif kind in _MPLS:
            while not data[at + 2] & 1:
                at += 4
            at += 4
            kind = _by_version(data, at)
        elif kind == _PPPOE:
            kind, at = _ppp(data, at + 6)
        elif kind == _PPP:
            kind, at = _ppp(data, at)
        elif kind == _TEB:
            kind, at = _ethernet(data, at)
        elif kind in (_IP4, _IP6):
            family, source, destination, traffic, protocol, at, end = _ip(data, at, kind)
            if protocol == _UDP:
                from_port, to_port, length = struct.unpack_from("!3H", data, at)
                end = min(end, at + length) if length >= 8 else end
                if to_port == _VXLAN_PORT and data[at + 8] == 0x08:
                    kind, at, wrapped = _TEB, at + 16, True
                    continue
                payload = data[at + 8 : end]
                return Datagram(
                    at_us=frame.at_us,
                    source=f"{_plain(family, source)}:{from_port}",
                    destination=f"{_plain(family, destination)}:{to_port}",
                    dscp=traffic >> 2,
                    payload=_out_of_channel(payload),
                    whole=len(data) >= at + length if length >= 8 else frame.whole,
                    wrapped=wrapped,
                )
            wrapped = True
            if protocol == 4:
                kind = _IP4
            elif protocol == 41:
                kind = _IP6
            elif protocol == _GRE:
                kind, at = _gre(data, at)
            else:
                return None
        else:
            return None
    return None


def _below(link: int, data: bytes) -> tuple[int, int]:
    """What the link carries (as an EtherType) and where it begins."""
    if link == 1:
        return _ethernet(data, 0)
    if link in _RAW_LINKS:
        return _by_version(data, 0), 0
    if link in (0, 108):
        family = struct.unpack_from("<I", data)[0]
        return _FAMILIES.get(family if family < 256 else family >> 24, 0), 4
    if link in (9, 50):
        return _ppp(data, 0)
    if link == 51:
        return _ppp(data, 6)
    if link == 104:
        return _word(data, 2), 4
    if link == 113:
        return _word(data, 14), 16
    if link == 276:
        return _word(data, 0), 20
    if link == 127:
        return _wireless(data, struct.unpack_from("<H", data, 2)[0])
    if link == 105:
        return _wireless(data, 0)
    return 0, 0


def _ethernet(data: bytes, at: int) -> tuple[int, int]:
    kind = _word(data, at + 12)
    if kind >= 0x600:
        return kind, at + 14
    return _snap(data, at + 14)


def _snap(data: bytes, at: int) -> tuple[int, int]:
    return (_word(data, at + 6), at + 8) if data[at : at + 3] == b"\xaa\xaa\x03" else (0, at)


def _wireless(data: bytes, at: int) -> tuple[int, int]:
    """An 802.11 data frame; what is encrypted cannot be read."""
    control, flags = data[at], data[at + 1]
    if control & 0x0C != 0x08 or flags & 0x40:
        return 0, at
    length = 30 if flags & 3 == 3 else 24
    return _snap(data, at + length + (2 if control & 0x80 else 0))


def _ppp(data: bytes, at: int) -> tuple[int, int]:
    if data[at : at + 2] == b"\xff\x03":
        at += 2
    if data[at] & 1:
        return _PPP_PROTOCOLS.get(data[at], 0), at + 1
    return _PPP_PROTOCOLS.get(_word(data, at), 0), at + 2


def _gre(data: bytes, at: int) -> tuple[int, int]:
    """RFC 2784 and 2890; version 1 is that of PPTP (RFC 2637)."""
    flags, kind = struct.unpack_from("!HH", data, at)
    at += 4 + sum(4 for bit in (0x8000, 0x2000, 0x1000) if flags & bit)
    return kind, at + (4 if flags & 7 == 1 and flags & 0x80 else 0)


def _ip(data: bytes, at: int, kind: int) -> tuple[int, bytes, bytes, int, int, int, int]:
    """Family, addresses, traffic class, protocol, where that begins and where it ends. Raises ValueError."""
    if kind == _IP4:
        first, traffic, length, _, fragment, _, protocol = struct.unpack_from("!BBHHHBB", data, at)
        if first >> 4 != 4 or fragment & 0x1FFF:
            raise ValueError("no IPv4 header, or a later fragment")
        end = at + length if length else len(data)  # 0 where the sending machine's card cuts the packets
        return (
            socket.AF_INET, data[at + 12 : at + 16], data[at + 16 : at + 20], traffic, protocol,
            at + 4 * (first & 15), end,
        )  # fmt: skip
    head, length, protocol = struct.unpack_from("!IHB", data, at)
    if head >> 28 != 6:
        raise ValueError("no IPv6 header")
    source, destination = data[at + 8 : at + 24], data[at + 24 : at + 40]
    end = at + 40 + length if length else len(data)
    at += 40
    while protocol in (0, 43, 44, 51, 60):
        if protocol == 44 and _word(data, at + 2) & 0xFFF8:
            raise ValueError("a later fragment")
        size = 8 if protocol == 44 else (data[at + 1] + 2) * 4 if protocol == 51 else (data[at + 1] + 1) * 8
        protocol, at = data[at], at + size
    return socket.AF_INET6, source, destination, head >> 20 & 0xFF, protocol, at, end


def _by_version(data: bytes, at: int) -> int:
    return {4: _IP4, 6: _IP6}.get(data[at] >> 4, 0)


def _word(data: bytes, at: int) -> int:
    return int(struct.unpack_from("!H", data, at)[0])


def _out_of_channel(payload: bytes) -> bytes:
    """What a relay's channel carries (RFC 8656 §12.4); any other payload as it is."""
    if len(payload) >= 4 and 0x40 <= payload[0] <= 0x4F:
        length = _word(payload, 2)
        if 4 + length <= len(payload) <= 4 + length + 3:
            return payload[4 : 4 + length]
    return payload


def _plain(family: int, address: bytes) -> str:
    text = socket.inet_ntop(family, address)
    return f"[{text}]" if ":" in text else text
