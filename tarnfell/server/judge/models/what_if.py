"""What would be under a change, asked of a site's own evidence."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from tarnfell.server.http.models.base import Model
from tarnfell.work.whatif.trial import TriedOutcome

Day = Annotated[str, Field(max_length=10)]


class WhatIfForm(Model):
    """What is left out stays as it is."""

    codec: str | None = Field(None, max_length=40)
    buffer_ms: float | None = None
    """Of a fixed buffer; the most of an adaptive one."""
    adaptive: bool = False
    first_up: bool = False
    """Media is sent first at the router."""
    first_down: bool = False
    first_inside: bool = False
    """Media is sent first by the site's switches."""
    line_up: float = 1.0
    """Times the line's rate."""
    line_down: float = 1.0
    target_mos: float | None = None
    required_share_pct: float | None = None
    needed_calls: int | None = None
    open_minute: int | None = None
    close_minute: int | None = None
    open_days: str | None = Field(None, max_length=7)
    from_day: Day | None = None
    until_day: Day | None = None


class WhatIfView(Model):
    id: int
    says: list[str]
    """What is changed, a line each."""
    state: Literal["waiting", "being tried", "ready", "failed"]
    behind: bool
    """Evidence or brief have changed since it was tried."""
    measured: TriedOutcome | None
    """As it was when it was tried; None before."""
    at_least: TriedOutcome | None
    at_best: TriedOutcome | None
    """None where it is the same as at least."""
    cautions: list[str]


class CodecChoice(Model):
    name: str
    title: str


class WhatIfPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    codec: str
    codecs: list[CodecChoice]
    buffer_ms: float
    """That calls are judged by."""
    up_kbps: int | None
    down_kbps: int | None
    target_mos: float
    required_share_pct: float
    needed_calls: int
    open_minute: int
    close_minute: int
    open_days: str
    first_day: str | None
    """Of the site's calls, ISO dates; None where there are none."""
    last_day: str | None
    measured: TriedOutcome
    tried: list[WhatIfView]
    """Newest first."""
