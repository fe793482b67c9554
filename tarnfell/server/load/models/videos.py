"""One video stream, down to its seconds."""

from __future__ import annotations

from pydantic import Field

from tarnfell.core.directions import PictureFigures
from tarnfell.core.picture import DEFAULT_BUFFER_MS, PictureSecond, Refresh
from tarnfell.server.http.models.base import Model


class VideoQuery(Model):
    buffer_ms: float = Field(DEFAULT_BUFFER_MS, ge=0, le=1000)
    refresh: Refresh = "requested"
    """How a spoilt picture mends: as soon as the receiver asked for it, or at the stream's own refresh frames only."""


class FrameStrip(Model):
    """The frames of a few seconds, in which a viewer missed most."""

    first: int
    """From 0."""
    came: str
    """A letter a frame: s, shown; o, whole but building on something broken; b, broken."""
    media_first: str | None
    """As it would have been had media been sent first; null where no queue stands."""


class PictureSide(Model):
    figures: PictureFigures
    why: str
    seconds: list[PictureSecond]
    strip: FrameStrip | None
    """Null where nothing is known of what was sent."""


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
