"""Evidence made elsewhere: captures and echo logs."""

from __future__ import annotations

from pydantic import Field

from tarnfell.server.models.base import Model


class ImportQuery(Model):
    name: str = Field(min_length=1, max_length=200)
    codec: str | None = None
    """For streams whose payload type does not name one."""


class StreamSecond(Model):
    mos: float
    lost: int
    late: int


class ImportedStream(Model):
    ssrc: int
    source: str
    destination: str
    payload_type: int
    codec: str | None
    codec_title: str | None
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
    seconds: list[StreamSecond]
    """Empty where no quality is told."""


class EchoView(Model):
    system: str
    host: str | None
    stamped: bool
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
    packets: int
    cut_short: bool
    mos_scale: str
    note: str
    streams: list[ImportedStream]
    echo: EchoView | None


class ImportSummary(Model):
    id: int
    name: str
    kind: str
    created_us: int
    says: str


class ImportList(Model):
    site_slug: str
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    imports: list[ImportSummary]


class ImportMade(Model):
    id: int
