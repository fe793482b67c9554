"""RTP data packets (RFC 3550 §5.1)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from tarnfell.wire import WireError

VERSION = 2
HEADER = struct.Struct("!BBHII")
SEQ_MOD = 1 << 16


@dataclass(frozen=True)
class RtpPacket:
    """One RTP packet; names as in RFC 3550."""

    payload_type: int
    sequence_number: int
    timestamp: int
    ssrc: int
    marker: bool = False
    csrc: tuple[int, ...] = ()
    extension: bytes = b""
    """Whole header extension: profile, length and body (RFC 3550 §5.3.1)."""
    payload: bytes = b""
    padding_bytes: int = 0

    @staticmethod
    def parse(data: bytes) -> RtpPacket:
        """Raises WireError for anything that is not one whole RTP packet."""
        if len(data) < HEADER.size:
            raise WireError(f"RTP: {len(data)} bytes, shorter than a header.")
        first, second, sequence_number, timestamp, ssrc = HEADER.unpack_from(data)
        if first >> 6 != VERSION:
            raise WireError(f"RTP: version {first >> 6}.")
        at = HEADER.size + 4 * (first & 0x0F)
        if len(data) < at:
            raise WireError("RTP: contributing sources run past the end.")
        csrc = struct.unpack_from(f"!{first & 0x0F}I", data, HEADER.size)
        extension = b""
        if first & 0x10:
            if len(data) < at + 4:
                raise WireError("RTP: header extension cut short.")
            length = 4 + 4 * int.from_bytes(data[at + 2 : at + 4], "big")
            if len(data) < at + length:
                raise WireError("RTP: header extension runs past the end.")
            extension = data[at : at + length]
            at += length
        padding = 0
        if first & 0x20:
            padding = data[-1]
            if padding == 0 or at + padding > len(data):
                raise WireError(f"RTP: {padding} bytes of padding cannot be.")
        return RtpPacket(
            payload_type=second & 0x7F,
            sequence_number=sequence_number,
            timestamp=timestamp,
            ssrc=ssrc,
            marker=bool(second & 0x80),
            csrc=csrc,
            extension=extension,
            payload=data[at : len(data) - padding],
            padding_bytes=padding,
        )

    def serialize(self) -> bytes:
        first = VERSION << 6 | bool(self.padding_bytes) << 5 | bool(self.extension) << 4 | len(self.csrc)
        header = HEADER.pack(
            first, self.marker << 7 | self.payload_type, self.sequence_number, self.timestamp, self.ssrc
        )
        csrc = struct.pack(f"!{len(self.csrc)}I", *self.csrc)
        padding = bytes(self.padding_bytes - 1) + bytes([self.padding_bytes]) if self.padding_bytes else b""
        return header + csrc + self.extension + self.payload + padding


def extend_sequence(highest: int, sequence_number: int) -> int:
    """The extended number nearest ``highest`` that ends in ``sequence_number`` (RFC 3550 A.1, RFC 3711 §3.3.1)."""
    candidate = (highest & ~(SEQ_MOD - 1)) | sequence_number
    if candidate - highest > SEQ_MOD // 2:
        return candidate - SEQ_MOD
    if highest - candidate > SEQ_MOD // 2:
        return candidate + SEQ_MOD
    return candidate


def looks_like_rtcp(data: bytes) -> bool:
    """Whether a packet on a shared port is RTCP and not RTP (RFC 5761 §4)."""
    return len(data) >= 8 and data[0] >> 6 == VERSION and 192 <= data[1] <= 223
