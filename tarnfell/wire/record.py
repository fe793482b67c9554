"""The packet record: what one end sent and saw, packed to a few bytes a packet.

An open format of ours, described in docs/protocol.md. A record is a JSON header
and named columns of whole numbers. A column is stored as differences, zigzag
folded, cut into byte planes (all lowest bytes, then all second bytes, …) and
deflated; regular traffic shrinks to about two bytes a value.
"""

from __future__ import annotations

import io
import json
import struct
import zlib
from array import array
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, BinaryIO

from tarnfell.wire import WireError

MAGIC = b"TFR1"
_LENGTH = struct.Struct("!I")
MAX_HEADER_BYTES = 1 << 20
MAX_VALUES = 1 << 24
"""Values in one column: over four days of packets at 20 ms, and 128 MiB in memory."""
_BYTES = 8
_MASK = (1 << 64) - 1


@dataclass  # not frozen: a server makes nine of every batch of samples, and that takes three times as long
class PackedColumn:
    """One column as it is stored; whoever has NumPy unpacks ``planes`` at once."""

    name: str
    count: int
    deflated: bytes

    def planes(self) -> bytes:
        """The inflated byte planes, ``8 * count`` bytes. Raises WireError."""
        inflater = zlib.decompressobj()
        try:
            raw = inflater.decompress(self.deflated, _BYTES * self.count + 1)
        except zlib.error as error:
            raise WireError(f"Packet record: column {self.name} is damaged ({error}).") from None
        if len(raw) != _BYTES * self.count:
            raise WireError(f"Packet record: column {self.name} does not hold {self.count} values.")
        return raw

    def values(self) -> list[int]:
        """The column's numbers, without NumPy."""
        raw, out, last = self.planes(), [], 0
        for i in range(self.count):
            folded = int.from_bytes(raw[i :: self.count], "little")
            last += (folded >> 1) ^ -(folded & 1)
            out.append(last)
        return out


def pack_column(name: str, values: Iterable[int]) -> PackedColumn:
    step = _even_step(values) if isinstance(values, array) else None
    if step is not None:
        assert isinstance(values, array)
        first, rest = (_folded(n).to_bytes(_BYTES, "little") for n in (values[0], step))
        planes = b"".join(first[i : i + 1] + rest[i : i + 1] * (len(values) - 1) for i in range(_BYTES))
        return PackedColumn(name, len(values), zlib.compress(planes, 6))
    last = 0
    folded = array("Q")
    for value in values:
        folded.append(_folded(value - last))
        last = value
    if array("H", [1]).tobytes() != b"\x01\x00":
        folded.byteswap()
    raw = folded.tobytes()
    planes = b"".join(raw[i::_BYTES] for i in range(_BYTES))
    return PackedColumn(name, len(folded), zlib.compress(planes, 6))


def _folded(difference: int) -> int:
    """Zigzag: small numbers of either sign become small ones without."""
    return ((difference << 1) ^ (difference >> 63)) & _MASK


def _even_step(values: array[int]) -> int | None:
    """The step between all neighbours; None where it varies. Most columns have one, and finding it costs no loop here:
    a run of a hundred calls ends with nine million values at each end."""
    if len(values) < 2:
        return None
    step = values[1] - values[0]
    if step == 0:
        return 0 if values.count(values[0]) == len(values) else None
    try:
        even = array(values.typecode, range(values[0], values[0] + step * len(values), step))
    except OverflowError:
        return None
    return step if even == values else None


@dataclass(frozen=True)
class Record:
    """``meta`` is plain JSON; ``columns`` keep their order."""

    meta: Mapping[str, Any]
    columns: Mapping[str, PackedColumn] = field(default_factory=dict)

    @staticmethod
    def of(meta: Mapping[str, Any], columns: Mapping[str, Iterable[int]]) -> Record:
        return Record(meta, {name: pack_column(name, values) for name, values in columns.items()})

    def values(self, name: str) -> list[int]:
        """Raises WireError when the record has no such column."""
        return self.column(name).values()

    def column(self, name: str) -> PackedColumn:
        try:
            return self.columns[name]
        except KeyError:
            raise WireError(f"Packet record: no column {name}.") from None

    def serialize(self) -> bytes:
        index = [[c.name, c.count, len(c.deflated)] for c in self.columns.values()]
        header = json.dumps({"meta": self.meta, "columns": index}, separators=(",", ":")).encode()
        return MAGIC + _LENGTH.pack(len(header)) + header + b"".join(c.deflated for c in self.columns.values())

    @staticmethod
    def parse(data: bytes) -> Record:
        """Raises WireError for anything that is not one whole record."""
        start = len(MAGIC) + _LENGTH.size
        if len(data) < start or data[: len(MAGIC)] != MAGIC:
            raise WireError("Packet record: not one of ours.")
        (length,) = _LENGTH.unpack_from(data, len(MAGIC))
        if length > MAX_HEADER_BYTES or len(data) < start + length:
            raise WireError("Packet record: header cut short.")
        try:
            header = json.loads(data[start : start + length].decode())  # of bytes it would guess the encoding first
            meta, index = header["meta"], [(str(n), int(c), int(b)) for n, c, b in header["columns"]]
        except (ValueError, KeyError, TypeError, RecursionError):
            raise WireError("Packet record: header is not readable.") from None
        if not isinstance(meta, dict):
            raise WireError("Packet record: header is not readable.")
        columns: dict[str, PackedColumn] = {}
        at = start + length
        for name, count, size in index:
            if not 0 <= count <= MAX_VALUES or size < 0 or at + size > len(data):
                raise WireError(f"Packet record: column {name} runs past the end.")
            columns[name] = PackedColumn(name, count, data[at : at + size])
            at += size
        if at != len(data):
            raise WireError("Packet record: bytes left over.")
        return Record(meta, columns)


def join_parts(parts: Iterable[bytes]) -> bytes:
    """Several records as one file: each with its length before it."""
    return b"".join(_LENGTH.pack(len(part)) + part for part in parts)


def count_parts(file: BinaryIO) -> int:
    """How many records such a file holds, without reading them. Raises WireError when it is cut short."""
    count, at, end = 0, 0, file.seek(0, io.SEEK_END)
    while at < end:
        file.seek(at)
        prefix = file.read(_LENGTH.size)
        if len(prefix) < _LENGTH.size:
            raise WireError("Packet record file: cut short.")
        at += _LENGTH.size + _LENGTH.unpack(prefix)[0]
        count += 1
    if at > end:
        raise WireError("Packet record file: cut short.")
    return count


def split_parts(data: bytes) -> list[bytes]:
    """Raises WireError when the file is cut short."""
    parts, at = [], 0
    while at < len(data):
        if len(data) - at < _LENGTH.size:
            raise WireError("Packet record file: cut short.")
        (length,) = _LENGTH.unpack_from(data, at)
        at += _LENGTH.size
        if len(data) - at < length:
            raise WireError("Packet record file: cut short.")
        parts.append(data[at : at + length])
        at += length
    return parts
