"""An engagement and the comparison of its sites."""

from __future__ import annotations

from typing import Literal

from tarnfell.server.models.base import Model


class EngagementLine(Model):
    slug: str
    name: str
    summary: str
    sites: int
    archived_us: int | None


class EngagementList(Model):
    engagements: list[EngagementLine]


class VerdictView(Model):
    word: Literal["ready", "ready with conditions", "not ready", "no evidence"]
    provisional: bool
    score: int | None
    reasons: list[str]
    missing: list[str]


class ShareView(Model):
    good: int
    calls: int
    pct: float | None
    low_pct: float
    high_pct: float


class EvidenceView(Model):
    days: int
    required_days: int
    busy_hours: int
    required_busy_hours: int
    left_out_calls: int
    """Placed, but spoiled by one of the ends' own machines."""
    calls: int
    required_calls: int


class NextStep(Model):
    words: str
    why: str
    action: Literal["place", "load", "plan", "report", "open-run", "archive"]
    """Which button does it: go to the place screen, place calls, and so on."""
    label: str
    run_id: int | None = None


class LegView(Model):
    """One direction of the site's path, as far as it has been measured."""

    calls: int
    loss_pct: float | None
    added_p95_ms: float | None
    """Median delay of a call above the quiet state, 95th percentile over the calls."""
    mos_p10: float | None
    """Nine calls in ten are at least this good."""


class PathView(Model):
    spot: str
    far_end: str
    place: str
    up: LegView
    down: LegView
    worst: Literal["up", "down"] | None


class StripHour(Model):
    day: str
    hour: int
    mos: float | None
    """Of the worst call in that hour."""


class SiteLine(Model):
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


class ArchivedSite(Model):
    slug: str
    name: str
    archived_us: int


class EngagementPage(Model):
    slug: str
    name: str
    summary: str
    archived: bool
    sites: list[SiteLine]
    archived_sites: list[ArchivedSite]
