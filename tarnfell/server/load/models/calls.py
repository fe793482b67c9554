"""One call, down to its packets."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.closeup import PacketPoint, Stretch
from tarnfell.core.playout import DEFAULT_BUFFER_MS
from tarnfell.core.quality import MosLoss
from tarnfell.core.streams import Bursts
from tarnfell.server.http.models.base import Model
from tarnfell.server.load.models.runs import CallDirection
from tarnfell.server.report.models.documents import Waiting


class CallQuery(Model):
    buffer_ms: float = Field(DEFAULT_BUFFER_MS, ge=0, le=1000)
    codec: str | None = None
    adaptive: bool = False
    """Whether the buffer follows the delay; buffer_ms is then its ceiling."""


class SoundQuery(CallQuery):
    what: Literal["sent", "heard", "media-first"] = "heard"
    """The sentence with every packet in time, as it came, or as it would have come with media sent first."""


class SoundView(Model):
    """The stretch of a direction that can be heard: the one in which the listener missed most."""

    from_s: float
    """Since the call began."""
    seconds: float
    packets: int
    missed: int
    missed_with_media_first: int | None
    """Null where no queue stands that this would change."""


class Awaited(Waiting):
    """Packets that are too many to judge while somebody waits."""

    packets: int
    """Both ways."""


class PacketsForm(Model):
    """Of which direction the packets are wanted."""

    direction: Literal["up", "down"]


class CallSide(Model):
    figures: CallDirection
    effective_burst_ratio: float
    bursts: Bursts | None
    ipdv_p99_ms: float | None
    """99th percentile of the change of delay between neighbours, either way (RFC 3393)."""
    mean_depth_ms: float | None
    where_it_went: MosLoss | None
    why: str
    seconds: int
    seconds_below: int
    """Below the site's target."""
    stretch_s: int
    """Seconds of each of stretches, but for the last, which may be shorter."""
    stretches: list[Stretch]
    packets: list[PacketPoint]
    sound: SoundView | None
    """Null where what was sent is not known."""
    thinned: bool
    """Whether packets stands for more than one packet a point."""


class CallPage(Model):
    id: int
    previous_id: int | None
    """Within the same run, by number; None at its ends."""
    next_id: int | None
    number: int
    run_id: int
    site_slug: str
    site_name: str
    time_zone: str
    started_us: int
    started_local: str
    calls: int
    codec: str
    codec_title: str
    judged_as: str
    ptime_ms: int
    buffer_ms: float
    adaptive: bool
    band: str
    target_mos: float
    mos_scale: str
    mos_scale_wide: str
    clock: str | None
    """Null where how the clocks stood is being worked out."""
    clock_detail: str | None
    tainted: list[str]
    long: bool
    """Its packets are judged, and written down as CSV, by the clerk."""
    awaited: Awaited | None
    """Null once it has been judged as asked."""
    up: CallSide | None
    """Null for a direction in which nothing was to flow, and while it is awaited."""
    down: CallSide | None
