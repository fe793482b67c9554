"""An engagement and the comparison of its sites."""

from __future__ import annotations

from typing import Literal

from tarnfell.core.days.depths import PathDepth
from tarnfell.core.path import Leg
from tarnfell.server.http.models.base import Model
from tarnfell.store.engagements import Paper
from tarnfell.work.judging.next_step import NextStep


class EngagementLine(Model):
    slug: str
    name: str
    summary: str
    sites: int
    archived_us: int | None


class EngagementList(Model):
    engagements: list[EngagementLine]


class VerdictView(Model):
    word: Literal["ready", "ready with conditions", "not ready", "not shown yet"]
    provisional: bool
    low: int
    high: int
    """The score, 0 to 100: what is earned whatever the open points turn out to be, and what is still possible."""
    reasons: list[str]
    missing: list[str]
    word_with_all: str | None
    """The word had the calls that are left out been counted, where it is another."""
    behind: bool
    """Evidence or brief have changed since, and the clerk is judging them."""


class ShareView(Model):
    good: int
    calls: int
    moments: int
    days: int
    pct: float | None
    """Mean over ten-minute moments of business hours."""
    low_pct: float
    high_pct: float
    says: str
    """The end of the interval that decides, or both, in words."""


class EvidenceView(Model):
    days: int
    required_days: int
    busy_hours: int
    required_busy_hours: int
    left_out_calls: int
    """Placed, but counted into nothing or into one direction only."""
    calls: int
    moments: int
    """Ten-minute moments of business hours with calls."""
    required_moments: int


class PathView(Model):
    test_point: str
    far_end: str
    place: str
    up: Leg
    down: Leg
    worst: Literal["up", "down"] | None
    watched: PathDepth | None
    """Leg by leg, from the newest days of a watch; null where none was read."""


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
    """Shown at 95 % confidence."""
    held_calls: int | None
    """As observed, however little it rests on."""
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
    paper: Paper
    may_change: bool
    """Who asks may rename and archive it."""
    archived: bool
    sites: list[SiteLine]
    archived_sites: list[ArchivedSite]
