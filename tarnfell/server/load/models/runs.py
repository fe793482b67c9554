"""Runs: placing calls, following them, what came of them."""

from __future__ import annotations

from typing import Literal

from pydantic import Field
from pydantic.dataclasses import dataclass

from tarnfell.core.directions import DirectionFigures, PictureFigures
from tarnfell.core.rates import Flow
from tarnfell.server.http.models.base import Model, Paging
from tarnfell.store.jobs import JobEvent, State
from tarnfell.work.judging.run import RunDirection


class VideoLoadForm(Model):
    """Some video streams alike, held beside the calls."""

    profile: str
    streams: int = Field(ge=1, le=100)
    dscp: int = Field(34, ge=0, le=63)


class PlaceCalls(Model):
    codec: str
    ptime_ms: int = Field(ge=1, le=1000)
    calls: int
    seconds: float
    dscp: int = Field(46, ge=0, le=63)
    direction: Flow = "both"
    video: list[VideoLoadForm] = Field(default_factory=list, max_length=10)
    probe_id: int | None = None
    far_end_id: int | None = None


class RateView(Model):
    payload_bytes: int
    packets_per_s: float
    ipv4_kbps: float
    ethernet_ipv4_kbps: float
    wire_ipv4_kbps: float


@dataclass(frozen=True, kw_only=True)
class CallDirection(DirectionFigures):
    """One direction of a call, its quality on the wideband scale beside the codec's own."""

    mos_wide: float | None
    """MOS-CQEW, from the same R."""


class CallLine(Model):
    id: int
    number: int
    started_us: int
    acceptable: bool | None
    """None where its delay decides and is not known."""
    up: CallDirection | None
    """Null for a direction in which nothing was to flow."""
    down: CallDirection | None


class VideoLine(Model):
    id: int
    number: int
    title: str
    frames_per_s: int
    good: bool
    up: PictureFigures | None
    down: PictureFigures | None


class SelfCheckView(Model):
    tainted: bool
    reasons: list[str]
    probe_late_p99_ms: float | None
    far_end_late_p99_ms: float | None
    priority: str | None
    receive_stamps: str | None


class VideoLoadView(Model):
    profile: str
    title: str
    streams: int
    dscp: int


class RunWords(Model):
    name: str = Field("", max_length=120)
    note: str = Field("", max_length=2000)


class RunPage(Model):
    id: int
    name: str
    note: str
    again: PlaceCalls
    """What was asked for, to ask for it once more."""
    site_slug: str
    site_name: str
    time_zone: str
    engagement_slug: str
    state: State
    state_words: str
    failure: str | None
    codec: str
    codec_title: str
    ptime_ms: int
    calls: int
    seconds: float
    dscp: int
    direction: Flow
    flow_words: str
    """Which ways media flows, where it is not both."""
    video: list[VideoLoadView]
    video_rate: float
    """Packets a second of all video streams in one direction, in the mean."""
    created_us: int
    begun_us: int | None
    ended_us: int | None
    stop_asked: bool
    rate: RateView
    target_mos: float
    acceptable_words: str
    """What a direction must reach to be acceptable, for a sentence."""
    mos_scale: str
    clock: str | None
    cut: str | None
    """Why the run was broken off by what it was to measure; only the probe's half is there."""
    probe: str
    far_end: str
    events: list[JobEvent]
    self_check: SelfCheckView | None
    good: int | None
    up: RunDirection | None
    down: RunDirection | None
    streams: list[VideoLine]
    """The video streams, when done."""
    target_picture: float


class CallsQuery(Paging):
    sort: Literal["number", "mos", "lost", "late", "delay", "jitter", "burst", "reordered", "duplicates"] = "number"
    """By the worse direction."""
    only: Literal["all", "unacceptable", "lossy", "late", "remarked", "silent"] = "all"


class CallList(Model):
    calls: list[CallLine]
    total: int


class LiveSide(Model):
    rate: float
    """Packets a second a call, over the last second."""
    received: int
    missing: int
    late: int
    jitter_ms: float
    mos: float | None
    """Middle of the calls, from this second alone."""
    call_rates: list[float]
    call_mos: list[float | None]


class LiveVideo(Model):
    """The video streams of one direction together; frames are counted when the run is over."""

    rate: float
    """Packets a second, over the last second."""
    received: int
    missing: int
    late: int


class LiveSecondView(Model):
    second: int
    rtt_ms: float | None
    send_late_max_ms: float
    up: LiveSide
    down: LiveSide
    video_up: LiveVideo | None
    video_down: LiveVideo | None


class RunLive(Model):
    state: State
    state_words: str
    failure: str | None
    expected_rate: float
    seconds: list[LiveSecondView]


class LiveQuery(Model):
    after: int = Field(0, ge=0, le=1_000_000)
