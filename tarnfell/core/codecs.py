"""The codec table: what each codec sends and how it bears loss.

The values live in ``codecs.csv``, each with its source and whether the source
publishes it or it is a planning value. This file only reads and looks up.
"""

from __future__ import annotations

import csv
from dataclasses import dataclass, replace
from functools import cache
from importlib import resources
from typing import Literal

Band = Literal["narrow", "wide"]
Origin = Literal["published", "planning", "own"]
"""Whether the standard prints the values, they are ours to plan with, or the consultant's own."""

MAX_IE = 95.0
"""Ie,eff reaches no further (G.107 §7.5)."""
MIN_BPL, MAX_BPL = 1.0, 100.0

MIN_PTIME_MS = 10
MAX_PTIME_MS = 60


class CodecError(ValueError):
    """A codec or packet interval that cannot be sent; the text says what can."""


@dataclass(frozen=True)
class Codec:
    """One codec as RTP carries it (RFC 3551) and as the E-model sees it (G.113 App. I)."""

    name: str
    title: str
    payload_type: int
    clock_hz: int
    """RTP timestamp rate; for G.722 it is 8000 although it samples at 16 kHz (RFC 3551 §4.5.2)."""
    bit_rate_bps: int
    frame_ms: int
    look_ahead_ms: float
    ie: float
    """Equipment impairment factor without loss (G.107 §7.5)."""
    bpl: float
    """Packet-loss robustness factor (G.107 §7.5)."""
    band: Band
    origin: Origin
    source: str

    def payload_bytes(self, ptime_ms: int) -> int:
        """Codec bytes in one packet of ``ptime_ms``. Raises CodecError unless it is whole frames, 10 to 60 ms."""
        self.check_ptime(ptime_ms)
        # Frames are padded to whole octets one by one (RFC 3551 §4.5, RFC 3952 §3).
        frame_bytes = -(-self.bit_rate_bps * self.frame_ms // 8000)
        return frame_bytes * (ptime_ms // self.frame_ms)

    def timestamp_step(self, ptime_ms: int) -> int:
        """RTP timestamp units between packets."""
        self.check_ptime(ptime_ms)
        return self.clock_hz * ptime_ms // 1000

    def intervals_ms(self) -> list[int]:
        """Every packet interval this codec can be sent at."""
        return [p for p in range(MIN_PTIME_MS, MAX_PTIME_MS + 1) if p % self.frame_ms == 0]

    def check_ptime(self, ptime_ms: int) -> None:
        if ptime_ms not in self.intervals_ms():
            allowed = ", ".join(str(p) for p in self.intervals_ms())
            raise CodecError(
                f"{self.title} cannot be sent every {ptime_ms} ms: its frame is {self.frame_ms} ms. "
                f"Use one of {allowed} ms."
            )


@cache
def codec_table() -> dict[str, Codec]:
    """All codecs by name, in the order of the file."""
    text = resources.files(__package__).joinpath("codecs.csv").read_text(encoding="utf-8")
    return {row["name"]: _codec(row) for row in csv.DictReader(text.splitlines())}


def find_codec(name: str) -> Codec:
    """The codec called ``name`` (lower case, without dots). Raises CodecError naming the known ones."""
    try:
        return codec_table()[name]
    except KeyError:
        raise CodecError(f"No codec is called “{name}”. Known: {', '.join(codec_table())}.") from None


def _codec(row: dict[str, str]) -> Codec:
    band: Band = "wide" if row["band"] == "wide" else "narrow"
    origin: Origin = "published" if row["origin"] == "published" else "planning"
    return Codec(
        name=row["name"],
        title=row["title"],
        payload_type=int(row["payload_type"]),
        clock_hz=int(row["clock_hz"]),
        bit_rate_bps=int(row["bit_rate_bps"]),
        frame_ms=int(row["frame_ms"]),
        look_ahead_ms=float(row["look_ahead_ms"]),
        ie=float(row["ie"]),
        bpl=float(row["bpl"]),
        band=band,
        origin=origin,
        source=row["source"],
    )


def with_values(codec: Codec, ie: float, bpl: float, why: str) -> Codec:
    """The codec with a consultant's own Ie and Bpl in place of planning values. Raises CodecError.

    Values that a standard publishes stand: a report could not defend others.
    """
    if codec.origin == "published":
        raise CodecError(f"The values of {codec.title} are published ({codec.source}); they are not ours to change.")
    if not 0 <= ie <= MAX_IE:
        raise CodecError(f"Ie {ie:g} is not valid: choose 0 to {MAX_IE:g}.")
    if not MIN_BPL <= bpl <= MAX_BPL:
        raise CodecError(f"Bpl {bpl:g} is not valid: choose {MIN_BPL:g} to {MAX_BPL:g}.")
    if not why.strip():
        raise CodecError("Say where these values come from; the report will.")
    return replace(codec, ie=ie, bpl=bpl, origin="own", source=why.strip())
