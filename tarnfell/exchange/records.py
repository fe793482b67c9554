"""Packets out of capture files: pcap in all its magics, pcapng with every section and interface."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

MAX_PACKETS = 5_000_000
_MAX_BLOCK = 64 << 20
_SECTION = 0x0A0D0D0A
_INTERFACE, _OLD_PACKET, _SIMPLE, _ENHANCED = 1, 2, 3, 6
_TSRESOL, _TSOFFSET = 9, 14
_MAGICS = {0xA1B2C3D4: (1_000, 16), 0xA1B23C4D: (1, 16), 0xA1B2CD34: (1_000, 24)}
"""Of pcap: nanoseconds a unit of the fraction, bytes of a packet's head."""
CAPTURE_MAGICS = frozenset(
    struct.pack(order + "I", magic) for order in "<>" for magic in (*_MAGICS, _SECTION)
)  # fmt: skip
"""First bytes of every kind of capture."""


class CaptureError(ValueError):
    """A file that is no capture, or one nothing can be read from; the text says why."""


@dataclass(frozen=True)
class Frame:
    """One packet as it was captured."""

    at_us: int
    link: int
    """Link type (the registry of LINKTYPE_ values)."""
    data: bytes
    whole: bool
    """Whether all of it was captured."""


@dataclass(frozen=True)
class _Interface:
    link: int
    units_a_second: int
    offset_s: int
    snap: int


class FrameReader:
    """Frames of a capture in the order of the file. Raises CaptureError for what is none, at once."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self.packets = 0
        self.cut_short = False
        """Whether the file ended in the middle of something."""
        self.links: set[int] = set()
        """Kinds of link told so far."""
        start = file.read(4)
        if start not in CAPTURE_MAGICS:
            raise CaptureError("This is no packet capture: neither pcap nor pcapng.")
        self._start = start
        if start == struct.pack("<I", _SECTION):
            self._frames = self._pcapng()
        else:
            order = "<" if struct.unpack("<I", start)[0] in _MAGICS else ">"
            head = self._read(20)
            if head is None:
                raise CaptureError("The capture ends before its first packet.")
            self._frames = self._pcap(order, head)

    def frames(self) -> Iterator[Frame]:
        for frame in self._frames:
            self.packets += 1
            if self.packets > MAX_PACKETS:
                raise CaptureError(f"The capture holds more than {MAX_PACKETS} packets. Split it.")
            yield frame
        if self.cut_short and self.packets == 0:
            raise CaptureError("The capture is damaged from its first packet on.")

    def _read(self, count: int) -> bytes | None:
        """Exactly ``count`` bytes, or None at the end of the file; notices an end in the middle."""
        data = self._file.read(count)
        if len(data) == count:
            return data
        self.cut_short = self.cut_short or len(data) > 0
        return None

    def _pcap(self, order: str, head: bytes) -> Iterator[Frame]:
        nanoseconds, head_bytes = _MAGICS[struct.unpack(order + "I", self._start)[0]]
        # The upper bits tell of a frame check sequence; the lengths inside the packets say where that begins.
        link = struct.unpack_from(order + "I", head, 16)[0] & 0xFFFF
        self.links.add(link)
        while (packet := self._read(head_bytes)) is not None:
            seconds, fraction, kept, full = struct.unpack_from(order + "4I", packet)
            if kept > _MAX_BLOCK:
                self.cut_short = True
                return
            data = self._read(kept)
            if data is None:
                self.cut_short = True
                return
            yield Frame(seconds * 1_000_000 + fraction * nanoseconds // 1000, link, data, kept >= full)

    def _pcapng(self) -> Iterator[Frame]:
        order = "<"
        interfaces: list[_Interface] = []
        kind_bytes: bytes | None = self._start
        while kind_bytes is not None:
            length_bytes = self._read(4)
            if length_bytes is None:
                self.cut_short = True
                return
            already = b""
            if kind_bytes == struct.pack("<I", _SECTION):
                mark = self._read(4)
                if mark is None or mark not in (b"\x4d\x3c\x2b\x1a", b"\x1a\x2b\x3c\x4d"):
                    self.cut_short = True
                    return
                order, already, interfaces = ("<" if mark[0] == 0x4D else ">"), mark, []
            kind, length = (struct.unpack(order + "I", part)[0] for part in (kind_bytes, length_bytes))
            body = self._read(length - 8 - len(already)) if 12 <= length <= _MAX_BLOCK else None
            if body is None:
                self.cut_short = True
                return
            block = (already + body)[:-4]
            try:
                if kind == _INTERFACE:
                    interfaces.append(_interface(order, block))
                    self.links.add(interfaces[-1].link)
                elif kind in (_ENHANCED, _OLD_PACKET, _SIMPLE):
                    yield _packet(order, kind, block, interfaces)
            except (struct.error, IndexError):
                self.cut_short = True
                return
            kind_bytes = self._read(4)


def _interface(order: str, block: bytes) -> _Interface:
    link, _, snap = struct.unpack_from(order + "HHI", block)
    units, offset, at = 1_000_000, 0, 8
    while at + 4 <= len(block):
        code, length = struct.unpack_from(order + "HH", block, at)
        if code == 0:
            break
        value = block[at + 4 : at + 4 + length]
        if code == _TSRESOL and value:
            units = 2 ** (value[0] & 0x7F) if value[0] & 0x80 else 10 ** value[0]
        elif code == _TSOFFSET and len(value) == 8:
            offset = struct.unpack(order + "q", value)[0]
        at += 4 + (length + 3) // 4 * 4
    return _Interface(link, units, offset, snap)


def _packet(order: str, kind: int, block: bytes, interfaces: list[_Interface]) -> Frame:
    if kind == _SIMPLE:
        full, one = struct.unpack_from(order + "I", block)[0], interfaces[0]
        kept = min(full, one.snap or full, len(block) - 4)
        return Frame(0, one.link, block[4 : 4 + kept], kept >= full)
    if kind == _ENHANCED:
        number, high, low, kept, full = struct.unpack_from(order + "5I", block)
    else:
        number, _, high, low, kept, full = struct.unpack_from(order + "HHIIII", block)
    one = interfaces[number]
    data = block[20 : 20 + kept]
    at_us = (high << 32 | low) * 1_000_000 // one.units_a_second + one.offset_s * 1_000_000
    return Frame(at_us, one.link, data, len(data) >= full)
