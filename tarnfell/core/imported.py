"""What was read in a file that others recorded, and what people said of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from tarnfell.core.legs import Role


@dataclass(frozen=True)
class StreamSecond:
    mos: float
    lost: int
    late: int


@dataclass(frozen=True, kw_only=True)
class ImportedStream:
    """An RTP stream of a capture. One-way delay is not in it, nor is quality where no codec is known."""

    ssrc: int
    source: str
    destination: str
    payload_type: int
    media: str = "audio"
    codec: str | None
    codec_title: str | None
    names_codec: bool = True
    """Whether the capture itself tells the codec."""
    ptime_ms: float
    first_us: int
    skew_ppm: float | None
    dscp_received: Mapping[str, int]
    sent: int
    lost: int
    loss_pct: float
    late: int
    duplicates: int
    reordered: int
    burst_ratio: float
    longest_loss_run: int
    jitter_ms: float
    jitter_max_ms: float
    pdv_p95_ms: float | None
    pdv_max_ms: float | None
    r_factor: float | None
    mos: float | None
    mos_scale: str = "MOS-CQEN"
    reason: str | None
    """Why there is no quality."""
    notes: tuple[str, ...] = ()
    seconds: tuple[StreamSecond, ...]
    """Empty where no quality is told."""


@dataclass(frozen=True, kw_only=True)
class EchoCounts:
    """Echo requests to one host: counts, loss and percentiles of the round trip."""

    sent: int
    lost: int
    loss_pct: float
    longest_loss_run: int
    rtt_min_ms: float | None
    rtt_p50_ms: float | None
    rtt_p95_ms: float | None
    rtt_max_ms: float | None


@dataclass(frozen=True, kw_only=True)
class EchoFigures(EchoCounts):
    """The log of one host."""

    system: str
    host: str | None
    stamped: bool
    """Whether its lines tell when they were written."""
    runs: int = 1
    duplicates: int = 0
    notes: tuple[str, ...] = ()
    strange: tuple[tuple[int, str], ...] = ()
    """Lines that were not understood, by number."""
    points: tuple[tuple[float, float | None], ...]
    """Seconds since the first and the round trip in ms, or None; thinned with the extremes kept."""
    caution: str


class EchoMinute(NamedTuple):
    """What was asked and answered in one minute of the clock."""

    minute: int
    """Since the log began."""
    sent: int
    lost: int
    p50_ms: float | None
    p95_ms: float | None


@dataclass(frozen=True, kw_only=True)
class ImportedEcho(EchoFigures):
    started: str | None = None
    """ISO 8601; without a zone where the log names none."""
    minutes: tuple[EchoMinute, ...] = ()


@dataclass(frozen=True)
class FileContents:
    """All that was read in a file: streams of a capture, or hosts of a log of ping."""

    packets: int = 0
    cut_short: bool = False
    notes: tuple[str, ...] = ()
    streams: tuple[ImportedStream, ...] = ()
    pairs: tuple[tuple[int, int], ...] = ()
    """Streams that fit together as the two directions of a call."""
    echoes: tuple[ImportedEcho, ...] = ()


@dataclass(frozen=True)
class Choices:
    """What people said of an imported file."""

    codecs: Mapping[str, str] = field(default_factory=dict)
    """By the stream's place in the list; "*" for all that name none."""
    pairs: tuple[tuple[int, int], ...] | None = None
    """Streams that are one call; None where nobody said, and those that fit are paired."""
    roles: Mapping[str, Role] = field(default_factory=dict)
    """Where along the path each log's host stands, by its place in the list."""
    starts_local: str | None = None
    """When a log began that does not tell it; local time at the site."""
    test_point_id: int | None = None
    """The test point it speaks for."""
    shown: bool = False
    """Beside the day sheet."""

    def codec_of(self, place: int, told: str | None, media: str) -> str | None:
        """The codec to judge a stream by: what somebody named, else what the capture ``told``."""
        named = self.codecs.get(str(place))
        return named or told or (self.codecs.get("*") if media == "audio" else None)
