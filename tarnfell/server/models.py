"""Requests and responses of the web API. Times are UTC microseconds unless the name says local."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", from_attributes=True, use_attribute_docstrings=True)


# Sign-in


class SignIn(_Model):
    email: str = Field(min_length=1, max_length=254)
    password: str = Field(min_length=1, max_length=1000)


class Session(_Model):
    name: str
    email: str
    csrf: str
    """Sent back as X-CSRF-Token with every request that changes something."""


# Engagements


class EngagementLine(_Model):
    slug: str
    name: str
    summary: str
    sites: int


class EngagementList(_Model):
    engagements: list[EngagementLine]


class VerdictView(_Model):
    word: Literal["ready", "ready with conditions", "not ready", "no evidence"]
    provisional: bool
    score: int | None
    reasons: list[str]
    missing: list[str]


class ShareView(_Model):
    good: int
    calls: int
    pct: float | None
    low_pct: float
    high_pct: float


class EvidenceView(_Model):
    days: int
    required_days: int
    busy_hours: int
    required_busy_hours: int
    calls: int
    required_calls: int


class NextStep(_Model):
    words: str
    why: str
    action: Literal["place", "watch", "report", "open-run"]
    """Which button does it."""
    label: str
    run_id: int | None = None


class LegView(_Model):
    """One direction of the site's path, as far as it has been measured."""

    calls: int
    loss_pct: float | None
    added_p95_ms: float | None
    """Median delay of a call above the quiet state, 95th percentile over the calls."""
    mos_p10: float | None
    """Nine calls in ten are at least this good."""


class PathView(_Model):
    spot: str
    far_end: str
    place: str
    up: LegView
    down: LegView
    worst: Literal["up", "down"] | None


class StripHour(_Model):
    day: str
    hour: int
    mos: float | None
    """Of the worst call in that hour."""


class SiteLine(_Model):
    slug: str
    name: str
    place: str
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    needed_calls: int
    sustained_calls: int | None
    verdict: VerdictView
    share: ShareView
    evidence: EvidenceView
    path: PathView | None
    strip: list[StripHour]
    next: NextStep


class EngagementPage(_Model):
    slug: str
    name: str
    summary: str
    sites: list[SiteLine]


# Sites


class BriefView(_Model):
    place: str
    time_zone: str
    business_hours: str
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    provider: str
    people: int | None
    needed_calls: int
    codec: str
    codec_title: str
    ptime_ms: int
    target_mos: float
    required_share_pct: float
    line_share_up_pct: float | None
    """What the needed calls take of the line, with RTCP, at IP."""
    line_share_down_pct: float | None


class Stage(_Model):
    key: Literal["brief", "place", "load", "watch", "judge", "report"]
    title: str
    stands: str
    done: bool


class ProbeView(_Model):
    id: int
    name: str
    spot: str
    system: str | None
    last_heard_us: int | None
    heard: bool


class FarEndView(_Model):
    id: int
    name: str
    place: str
    host: str
    port: int


class DaySheetDay(_Model):
    """One local day in ten-minute cells, 00:00 first; None where nothing was measured."""

    day: str
    call_id: list[int | None]
    up_mos: list[float | None]
    down_mos: list[float | None]
    up_added_ms: list[float | None]
    down_added_ms: list[float | None]
    up_loss_pct: list[float | None]
    down_loss_pct: list[float | None]


class DaySheet(_Model):
    days: list[DaySheetDay]
    open_minute: int
    close_minute: int
    open_days: str


class DimensionView(_Model):
    dimension: str
    title: str
    weight: int
    score: float | None
    says: str
    lost_points: float
    taken_by: str | None


class FindingView(_Model):
    key: str
    title: str
    direction: str
    calls_hit: int
    calls: int
    evidence: list[str]
    call_ids: list[int]
    alternatives: list[str]
    remedy: str
    who: str
    gain: str


class RunLine(_Model):
    id: int
    state: Literal["waiting", "taken", "running", "done", "failed"]
    words: str
    created_us: int
    codec: str
    ptime_ms: int
    calls: int
    seconds: float
    dscp: int
    good: int | None
    """Calls with both directions at or above the target."""
    tainted: bool


class RunList(_Model):
    runs: list[RunLine]
    total: int


class SitePage(_Model):
    engagement_slug: str
    engagement_name: str
    slug: str
    name: str
    brief: BriefView
    verdict: VerdictView
    share: ShareView
    evidence: EvidenceView
    sustained_calls: int | None
    next: NextStep
    stages: list[Stage]
    path: PathView | None
    sheet: DaySheet
    dimensions: list[DimensionView]
    findings: list[FindingView]
    probes: list[ProbeView]
    far_ends: list[FarEndView]
    runs: list[RunLine]
    runs_total: int


class Paging(_Model):
    limit: int = Field(20, ge=1, le=200)
    offset: int = Field(0, ge=0, le=1_000_000)


# Runs


class PlaceCalls(_Model):
    codec: str
    ptime_ms: int = Field(ge=1, le=1000)
    calls: int
    seconds: float
    dscp: int = Field(46, ge=0, le=63)
    probe_id: int | None = None
    far_end_id: int | None = None


class RunEventView(_Model):
    at_us: int
    state: str
    words: str


class RateView(_Model):
    payload_bytes: int
    packets_per_s: float
    ipv4_kbps: float
    ethernet_ipv4_kbps: float
    wire_ipv4_kbps: float


class CallDirection(_Model):
    sent: int
    received: int
    lost: int
    loss_pct: float
    late: int
    duplicates: int
    reordered: int
    jitter_ms: float
    jitter_max_ms: float
    burst_ratio: float
    longest_loss_run: int
    delay_min_ms: float | None
    delay_p50_ms: float | None
    pdv_p95_ms: float | None
    pdv_max_ms: float | None
    mouth_to_ear_ms: float | None
    r_factor: float | None
    mos: float | None
    worst_second_mos: float | None
    ssrc: int
    dscp_sent: int
    dscp_received: dict[str, int]
    reason: str | None


class CallLine(_Model):
    id: int
    number: int
    up: CallDirection
    down: CallDirection


class SideSummary(_Model):
    """One direction over all calls of a run."""

    sent: int
    lost: int
    late: int
    loss_pct: float
    late_pct: float
    delay_p50_ms: float | None
    added_ms: float | None
    """95th percentile of a packet's delay above its call's fastest, middle of the calls."""
    jitter_ms: float
    mos_p50: float | None
    mos_min: float | None
    dscp_sent: int
    dscp_received: dict[str, int]
    why: str


class SelfCheckView(_Model):
    tainted: bool
    reasons: list[str]
    probe_late_p99_ms: float | None
    far_end_late_p99_ms: float | None
    priority: str | None
    receive_stamps: str | None


class RunPage(_Model):
    id: int
    site_slug: str
    site_name: str
    time_zone: str
    engagement_slug: str
    state: Literal["waiting", "taken", "running", "done", "failed"]
    state_words: str
    failure: str | None
    codec: str
    codec_title: str
    ptime_ms: int
    calls: int
    seconds: float
    dscp: int
    created_us: int
    begun_us: int | None
    ended_us: int | None
    stop_asked: bool
    rate: RateView
    target_mos: float
    mos_scale: str
    clock: str | None
    probe: str
    far_end: str
    events: list[RunEventView]
    self_check: SelfCheckView | None
    good: int | None
    up: SideSummary | None
    down: SideSummary | None


class CallList(_Model):
    calls: list[CallLine]
    total: int


class LiveSide(_Model):
    rate: float
    """Packets a second a call, over the last second."""
    received: int
    missing: int
    late: int
    jitter_ms: float
    mos: float | None
    """Middle of the calls, from this second alone."""
    call_rates: list[float]
    call_mos: list[float | None]


class LiveSecondView(_Model):
    second: int
    rtt_ms: float | None
    send_late_max_ms: float
    up: LiveSide
    down: LiveSide


class RunLive(_Model):
    state: Literal["waiting", "taken", "running", "done", "failed"]
    state_words: str
    failure: str | None
    expected_rate: float
    seconds: list[LiveSecondView]


class LiveQuery(_Model):
    after: int = Field(0, ge=0, le=1_000_000)


# One call


class CallQuery(_Model):
    buffer_ms: float = Field(60, ge=0, le=1000)
    codec: str | None = None


class PacketPoint(_Model):
    at_ms: float
    """Since the first packet was sent."""
    pdv_ms: float | None
    """Delay above the fastest packet; None when it never came."""
    fate: Literal["heard", "late", "lost"]


class SecondView(_Model):
    sent: int
    lost: int
    late: int
    delay_p50_ms: float | None
    mos: float


class MosLossView(_Model):
    best: float
    codec: float
    delay: float
    loss: float
    late: float


class CallSide(_Model):
    figures: CallDirection
    effective_loss_pct: float
    effective_burst_ratio: float
    pdv_p50_ms: float | None
    pdv_p99_ms: float | None
    where_it_went: MosLossView | None
    why: str
    seconds: list[SecondView]
    packets: list[PacketPoint]
    thinned: bool
    """Whether packets stands for more than one packet a point."""


class CodecView(_Model):
    name: str
    title: str
    intervals_ms: list[int]
    payload_bytes: list[int]
    """Of one packet at each interval."""
    ie: float
    bpl: float
    standing: Literal["published", "planning"]
    source: str


class CodecList(_Model):
    codecs: list[CodecView]


class CallPage(_Model):
    id: int
    number: int
    run_id: int
    site_slug: str
    site_name: str
    started_us: int
    started_local: str
    calls: int
    codec: str
    codec_title: str
    judged_as: str
    ptime_ms: int
    buffer_ms: float
    target_mos: float
    mos_scale: str
    clock: str
    tainted: list[str]
    up: CallSide
    down: CallSide


# Probes


class Enrol(_Model):
    token: str = Field(min_length=1, max_length=200)
    environment: dict[str, str | int | None] = Field(default_factory=dict, max_length=40)


class Enrolled(_Model):
    secret: str
    name: str
    site: str


class Heartbeat(_Model):
    environment: dict[str, str | int | None] = Field(default_factory=dict, max_length=40)


class JobPlan(_Model):
    calls: int
    packets: int
    ptime_us: int
    payload_type: int
    clock_hz: int
    payload_bytes: int
    dscp: int


class Job(_Model):
    id: int
    far_host: str
    far_port: int
    far_key: str
    plan: JobPlan


class HeartbeatAnswer(_Model):
    job: Job | None


class ProgressDirection(_Model):
    sent: int
    received: int
    reached: int
    late: int
    jitter_us: int
    pdv_us: int


class Progress(_Model):
    second: int = Field(ge=0, le=1_000_000)
    up: list[ProgressDirection] = Field(max_length=100)
    down: list[ProgressDirection] = Field(max_length=100)
    rtt_us: int | None
    send_late_max_us: int


class ProgressAnswer(_Model):
    stop: bool


class Failure(_Model):
    reason: str = Field(min_length=1, max_length=2000)


class Done(_Model):
    state: Literal["waiting", "taken", "running", "done", "failed"]
