"""Codecs, profiles of video, and the values calls are judged by."""

from __future__ import annotations

from pydantic import Field

from tarnfell.core.codecs import Band, Origin
from tarnfell.server.brief.models.brief import VideoProfileView
from tarnfell.server.http.models.base import Model


class CodecQuery(Model):
    engagement: str | None = None
    """Whose values to tell; the table's own unless given."""


class CodecView(Model):
    name: str
    title: str
    intervals_ms: list[int]
    payload_bytes: list[int]
    """Of one packet at each interval."""
    ie: float
    bpl: float
    origin: Origin
    source: str


class CodecList(Model):
    codecs: list[CodecView]
    video_profiles: list[VideoProfileView]


class CodecValues(Model):
    ie: float
    bpl: float
    why: str = Field(max_length=300)
    """Where the values come from."""


class ValueView(Model):
    """One codec as an engagement judges it."""

    name: str
    title: str
    band: Band
    origin: Origin
    ie: float
    bpl: float
    source: str
    planning_ie: float
    """As the program comes."""
    planning_bpl: float
    planning_source: str
    mos: list[float]
    """MOS-CQEN at each shown loss."""
    mos_wide: list[float]
    """MOS-CQEW, on which codecs of both bands stand too."""
    runs: int
    """Of this engagement, done."""
    stale: int
    """Still to be judged again."""


class ValuesPage(Model):
    engagement_slug: str
    engagement_name: str
    loss_pct: list[float]
    delay_ms: float
    """Mouth to ear, at which the shown MOS stand."""
    codecs: list[ValueView]
