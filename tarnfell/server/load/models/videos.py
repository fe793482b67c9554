"""One video stream, down to its seconds."""

from __future__ import annotations

from pydantic import Field

from tarnfell.core.picture import DEFAULT_BUFFER_MS, Refresh
from tarnfell.server.http.models.base import Model
from tarnfell.server.load.models.calls import Awaited
from tarnfell.work.closeup.video import PictureSide


class VideoQuery(Model):
    buffer_ms: float = Field(DEFAULT_BUFFER_MS, ge=0, le=1000)
    refresh: Refresh = "requested"
    """How a spoilt picture mends: as soon as the receiver asked for it, or at the stream's own refresh frames only."""


class VideoPage(Model):
    id: int
    number: int
    run_id: int
    site_slug: str
    site_name: str
    started_local: str
    profile_title: str
    width: int
    height: int
    frames_per_s: int
    kbps: int
    refresh_s: int
    buffer_ms: float
    refresh: Refresh
    mends_after_ms: float
    """From a broken frame to the refresh that was asked for."""
    score_name: str
    target_picture: float
    tainted: list[str]
    long: bool
    """Its packets are judged, and written down as CSV, by the clerk."""
    awaited: Awaited | None
    """Null once it has been judged as asked."""
    up: PictureSide | None
    """Null for a direction in which nothing was to flow, and while it is awaited."""
    down: PictureSide | None
