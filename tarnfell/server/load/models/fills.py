"""Filling the line."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.line.values import LineFilled
from tarnfell.server.check.models.checks import EndChoice
from tarnfell.server.http.models.base import Model
from tarnfell.store.browsers import Way
from tarnfell.store.jobs import State

FillWay = Literal["up", "down", "both"]


class AskFill(Model):
    probe_id: int
    far_end_id: int
    seconds: float = Field(10, ge=2, le=60)
    """Each way."""
    streams: int = Field(4, ge=1, le=16)
    ways: list[FillWay] = Field(default=["up", "down", "both"], min_length=1, max_length=3)
    beyond_ceiling: bool = False
    """Whatever the site's ceiling for tests is; otherwise streams stay below it, and the line is not full."""
    when: Literal["now", "at", "repeat"] = "now"
    start_local: str | None = Field(None, max_length=16)
    """The site's wall clock, as 2026-11-25T09:00."""
    rule: str | None = Field(None, max_length=300)
    """RFC 5545 recurrence, such as FREQ=WEEKLY;BYDAY=MO,WE."""
    consent: Literal[True]
    """That the line is full for as long, and people at work there will notice."""


class FillProgress(Model):
    way: Literal["idle", "up", "down", "both"]
    up_kbps: float | None
    down_kbps: float | None


class FillLine(Model):
    """One fill among others."""

    id: int
    probe: str
    far_end: str
    way: Way
    """Of the call beside it; by another than the straight one it is never evidence."""
    asked_us: int
    state: State
    words: str
    """Where it stands, or why it failed."""
    seconds: float
    streams: int
    ceiling_kbps: int
    """0: none was kept."""
    progress: list[FillProgress]
    """Phases so far, while it goes on."""
    says: list[str]
    """Empty until it is judged."""
    judged: bool


class FillPlanLine(Model):
    """Fills that are to come."""

    id: int
    probe_id: int
    probe: str
    far_end_id: int
    far_end: str
    seconds: float
    ways: list[FillWay]
    ceiling_kbps: int
    next_us: int
    next_local: str
    """The site's wall clock, as it is asked for."""
    recurs: str | None
    last_us: int | None
    last_words: str
    """Why the newest start was left out; empty where it was not, or there was none yet."""


class FillPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    probes: list[EndChoice]
    far_ends: list[EndChoice]
    up_kbps: int | None
    down_kbps: int | None
    ceiling_pct: float | None
    ceiling_kbps: int | None
    """What the streams of each direction are kept below under the site's ceiling; null where it has none."""
    metered_left_bytes: int | None
    """What loads may still move today on a metered line; null where it is not."""
    target_mos: float
    codec_title: str
    idle_s: float
    rest_s: float
    plans: list[FillPlanLine]
    """Next first."""
    fills: list[FillLine]
    """Newest first."""


class FillDetail(Model):
    line: FillLine
    filled: LineFilled | None
    """Null until it is judged, and where it cannot be."""
