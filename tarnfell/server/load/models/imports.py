"""Imported files: captures and logs of ping."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.legs import LegAdds, Role
from tarnfell.server.http.models.base import Model


class ImportQuery(Model):
    name: str = Field(min_length=1, max_length=200)
    codec: str | None = None
    """For streams whose payload type does not name one."""
    role: Role | None = None
    """Where along the path the host of a log stands."""


class ImportChange(Model):
    """What somebody says of a file; what is left out stays as it is."""

    name: str | None = Field(default=None, min_length=1, max_length=200)
    codecs: dict[str, str] | None = None
    pairs: list[tuple[int, int]] | None = None
    roles: dict[str, Role] | None = None
    starts_local: str | None = Field(default=None, max_length=25)
    test_point_id: int | None = None
    shown: bool | None = None


class StreamSecond(Model):
    mos: float
    lost: int
    late: int


class ImportedStream(Model):
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
    dscp_received: dict[str, int]
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
    notes: list[str] = Field(default_factory=list)
    seconds: list[StreamSecond]
    """Empty where no quality is told."""


class EchoView(Model):
    system: str
    host: str | None
    role: Role | None = None
    stamped: bool
    started_us: int | None = None
    runs: int = 1
    duplicates: int = 0
    notes: list[str] = Field(default_factory=list)
    strange: list[tuple[int, str]] = Field(default_factory=list)
    """Lines that were not understood, by number."""
    sent: int
    lost: int
    loss_pct: float
    longest_loss_run: int
    rtt_min_ms: float | None
    rtt_p50_ms: float | None
    rtt_p95_ms: float | None
    rtt_max_ms: float | None
    points: list[tuple[float, float | None]]
    """Seconds since the first and the round trip in ms, or null; thinned with the extremes kept."""
    caution: str


class TestPointChoice(Model):
    id: int
    name: str


class ImportPage(Model):
    id: int
    site_slug: str
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    name: str
    kind: str
    created_us: int
    state: Literal["read", "reading", "failed"]
    """Large files are read after they were taken; what was read before is shown meanwhile."""
    failure: str | None
    packets: int
    cut_short: bool
    note: str
    notes: list[str]
    streams: list[ImportedStream]
    pairs: list[tuple[int, int]]
    """Streams that are the two directions of one call, by their place in the list."""
    echoes: list[EchoView]
    test_points: list[TestPointChoice]
    test_point_id: int | None
    shown: bool
    starts_local: str | None
    days: list[str]
    """Local days on which it stands beside the day sheet, if it is shown there."""
    can_change: bool
    """Whether the file itself was kept, so that it can be judged by other codecs."""


class PathPlace(Model):
    role: Role
    host: str | None
    sent: int
    lost: int
    p50_ms: float | None
    p95_ms: float | None
    through_loss_pct: float
    through_p50_ms: float | None
    through_p95_ms: float | None


class EchoPathView(Model):
    """What several logs say together."""

    places: list[PathPlace]
    legs: list[LegAdds]
    minutes: int | None
    not_faults: list[tuple[str, str]]
    says: str


class ImportSummary(Model):
    id: int
    name: str
    kind: str
    created_us: int
    state: Literal["read", "reading", "failed"]
    says: str
    shown: bool
    roles: list[Role]


class ImportList(Model):
    site_slug: str
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    imports: list[ImportSummary]
    path: EchoPathView | None


class ImportMade(Model):
    id: int
