"""One site: where its work stands, its day sheet, findings and score."""

from __future__ import annotations

from typing import Literal

from tarnfell.server.models.base import Model
from tarnfell.server.models.engagements import EvidenceView, NextStep, PathView, ShareView, VerdictView
from tarnfell.server.models.runs import VideoLoadView


class BriefView(Model):
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
    video: list[VideoLoadView]
    target_mos: float
    required_share_pct: float
    line_share_up_pct: float | None
    """What the needed calls take of the line, with RTCP, at IP."""
    line_share_down_pct: float | None


class Stage(Model):
    key: Literal["brief", "place", "load", "watch", "judge", "report"]
    title: str
    stands: str
    done: bool


class ProbeView(Model):
    id: int
    name: str
    spot: str
    system: str | None
    last_heard_us: int | None
    heard: bool


class FarEndView(Model):
    id: int
    name: str
    place: str
    host: str
    port: int


class DaySheetDay(Model):
    """One local day in ten-minute cells, 00:00 first; None where nothing was measured."""

    day: str
    call_id: list[int | None]
    up_mos: list[float | None]
    down_mos: list[float | None]
    up_added_ms: list[float | None]
    down_added_ms: list[float | None]
    up_loss_pct: list[float | None]
    down_loss_pct: list[float | None]


class DaySheet(Model):
    days: list[DaySheetDay]
    open_minute: int
    close_minute: int
    open_days: str


class DimensionView(Model):
    dimension: str
    title: str
    weight: int
    score: float | None
    says: str
    lost_points: float
    taken_by: str | None


class FindingView(Model):
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
    of: str
    """What was hit: calls, or video streams."""
    stream_ids: list[int]


class RunLine(Model):
    id: int
    state: Literal["waiting", "taken", "running", "done", "failed"]
    words: str
    created_us: int
    codec: str
    ptime_ms: int
    calls: int
    seconds: float
    dscp: int
    load: str
    """Video beside the calls and the ways media flows, in words; empty for calls alone, both ways."""
    good: int | None
    """Calls with both directions at or above the target."""
    tainted: bool


class RunList(Model):
    runs: list[RunLine]
    total: int


class SitePage(Model):
    engagement_slug: str
    engagement_name: str
    slug: str
    name: str
    archived: bool
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
