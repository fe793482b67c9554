"""What the start page holds."""

from __future__ import annotations

from typing import Literal

from tarnfell.server.brief.models.engagements import VerdictView
from tarnfell.server.http.models.base import Model


class TodayItem(Model):
    site_slug: str
    site_name: str
    engagement_name: str
    time_zone: str
    says: str
    at_us: int
    path: str
    """Of the screen that shows it."""


class TodayChange(Model):
    site_slug: str
    site_name: str
    engagement_name: str
    says: str


class TodayHour(Model):
    at_us: int
    mos: float
    """The worst that calls had in that hour, or would have had on the way that is watched."""


class TodaySite(Model):
    slug: str
    name: str
    verdict: VerdictView
    hours_of: Literal["watch", "calls"] | None
    hours: list[TodayHour]
    alerts: int
    """Open ones."""
    online: int
    probes: int


class TodayEngagement(Model):
    slug: str
    name: str
    summary: str
    sites: int
    shown: list[TodaySite]
    """Those with the lowest score."""


class TodayArchived(Model):
    slug: str
    name: str


class TodayPage(Model):
    since_us: int | None
    """When the visit before ended; null for the first."""
    from_us: int
    until_us: int
    """Of the strips."""
    trouble: list[TodayItem]
    running: list[TodayItem]
    coming: list[TodayItem]
    changed: list[TodayChange]
    engagements: list[TodayEngagement]
    archived: list[TodayArchived]
