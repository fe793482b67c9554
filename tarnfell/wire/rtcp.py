"""RTCP sender and receiver reports and compounds (RFC 3550 §6).

Other packet types inside a compound are kept as they came, so that a compound
from a real phone can be read without knowing all of RTCP.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import Union

from tarnfell.wire import WireError

VERSION = 2
SENDER_REPORT = 200
RECEIVER_REPORT = 201
SOURCE_DESCRIPTION = 202
BYE = 203
CNAME = 1
_COMMON = struct.Struct("!BBH")
_SENDER_INFO = struct.Struct("!IQIII")
_BLOCK = struct.Struct("!IIIIII")
_MAX_BLOCKS = 31


@dataclass(frozen=True)
class ReportBlock:
    """What one receiver saw of one source (RFC 3550 §6.4.1)."""

    ssrc: int
    fraction_lost: int
    cumulative_lost: int
    """Signed 24 bits: duplicates can make it negative."""
    highest_sequence: int
    jitter: int
    """In timestamp units."""
    last_sr: int
    delay_since_last_sr: int
    """In units of 1/65536 s."""

    @staticmethod
    def parse(data: bytes, at: int) -> ReportBlock:
        ssrc, lost, highest, jitter, last_sr, delay = _BLOCK.unpack_from(data, at)
        cumulative = lost & 0xFFFFFF
        if cumulative & 0x800000:
            cumulative -= 1 << 24
        return ReportBlock(ssrc, lost >> 24, cumulative, highest, jitter, last_sr, delay)

    def serialize(self) -> bytes:
        lost = self.fraction_lost << 24 | (max(-0x800000, min(0x7FFFFF, self.cumulative_lost)) & 0xFFFFFF)
        return _BLOCK.pack(self.ssrc, lost, self.highest_sequence, self.jitter, self.last_sr, self.delay_since_last_sr)


@dataclass(frozen=True)
class SenderReport:
    ssrc: int
    ntp_timestamp: int
    rtp_timestamp: int
    packet_count: int
    octet_count: int
    blocks: tuple[ReportBlock, ...] = ()

    def serialize(self) -> bytes:
        body = _SENDER_INFO.pack(self.ssrc, self.ntp_timestamp, self.rtp_timestamp, self.packet_count, self.octet_count)
        return _with_header(SENDER_REPORT, len(self.blocks), body + b"".join(b.serialize() for b in self.blocks))


@dataclass(frozen=True)
class ReceiverReport:
    ssrc: int
    blocks: tuple[ReportBlock, ...] = ()

    def serialize(self) -> bytes:
        body = self.ssrc.to_bytes(4, "big") + b"".join(b.serialize() for b in self.blocks)
        return _with_header(RECEIVER_REPORT, len(self.blocks), body)


@dataclass(frozen=True)
class OtherPacket:
    """A packet of a type that is not read here, kept whole."""

    packet_type: int
    count: int
    body: bytes

    def serialize(self) -> bytes:
        return _with_header(self.packet_type, self.count, self.body)


RtcpPacket = Union[SenderReport, ReceiverReport, OtherPacket]


def source_description(ssrc: int, cname: str) -> OtherPacket:
    """The SDES CNAME item every compound carries (RFC 3550 §6.5.1)."""
    name = cname.encode()[:255]
    chunk = ssrc.to_bytes(4, "big") + bytes([CNAME, len(name)]) + name + b"\0"
    return OtherPacket(SOURCE_DESCRIPTION, 1, chunk + bytes(-len(chunk) % 4))


def parse_compound(data: bytes) -> list[RtcpPacket]:
    """Every packet of a compound, in order. Raises WireError."""
    packets: list[RtcpPacket] = []
    at = 0
    while at < len(data):
        if len(data) - at < _COMMON.size:
            raise WireError("RTCP: cut short inside a header.")
        first, packet_type, words = _COMMON.unpack_from(data, at)
        if first >> 6 != VERSION:
            raise WireError(f"RTCP: version {first >> 6}.")
        end = at + 4 * (words + 1)
        if end > len(data):
            raise WireError("RTCP: a packet runs past the end.")
        body_end = end
        if first & 0x20:
            padding = data[end - 1]
            if end != len(data) or padding == 0 or padding % 4 or padding > 4 * words:
                raise WireError("RTCP: padding that cannot be.")
            body_end -= padding
        packets.append(_parse_one(packet_type, first & 0x1F, data[at + 4 : body_end]))
        at = end
    if not packets:
        raise WireError("RTCP: empty.")
    return packets


def _parse_one(packet_type: int, count: int, body: bytes) -> RtcpPacket:
    if packet_type == SENDER_REPORT:
        if len(body) < _SENDER_INFO.size + count * _BLOCK.size:
            raise WireError("RTCP: sender report cut short.")
        ssrc, ntp, rtp, packets, octets = _SENDER_INFO.unpack_from(body)
        return SenderReport(ssrc, ntp, rtp, packets, octets, _blocks(body, _SENDER_INFO.size, count))
    if packet_type == RECEIVER_REPORT:
        if len(body) < 4 + count * _BLOCK.size:
            raise WireError("RTCP: receiver report cut short.")
        return ReceiverReport(int.from_bytes(body[:4], "big"), _blocks(body, 4, count))
    return OtherPacket(packet_type, count, body)


def _blocks(body: bytes, at: int, count: int) -> tuple[ReportBlock, ...]:
    return tuple(ReportBlock.parse(body, at + i * _BLOCK.size) for i in range(count))


def _with_header(packet_type: int, count: int, body: bytes) -> bytes:
    if not 0 <= count <= _MAX_BLOCKS:
        raise WireError(f"RTCP: {count} blocks do not fit one packet.")
    return _COMMON.pack(VERSION << 6 | count, packet_type, len(body) // 4) + body
