"""One video stream, down to its seconds."""

from __future__ import annotations

from pydantic import Field

from tarnfell.core.picture import DEFAULT_BUFFER_MS, Refresh
from tarnfell.server.http.models.base import Model
from tarnfell.server.load.models.runs import PictureDirection


class VideoQuery(Model):
    buffer_ms: float = Field(DEFAULT_BUFFER_MS, ge=0, le=1000)
    refresh: Refresh = "requested"
    """How a spoilt picture mends: as soon as the receiver asked for it, or at the stream's own refresh frames only."""


class PictureSecondView(Model):
    frames: int
    """Sent in it."""
    shown: int
    broken: int
    lost: int
    """Packets."""
    late: int


class PictureSide(Model):
    figures: PictureDirection
    why: str
    seconds: list[PictureSecondView]


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
    up: PictureSide | None
    down: PictureSide | None
