"""What a consultant writes down about a site, and the arithmetic that follows from it."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.need import Need
from tarnfell.core.targets import Bound
from tarnfell.server.http.models.base import Model
from tarnfell.store.briefs import BriefChange
from tarnfell.store.engagements import Paper

Text = Field("", max_length=300)


class BlackoutForm(Model):
    """Hours of the site's week in which no load may be placed."""

    days: str = Field("1234567", max_length=7)
    from_minute: int = Field(ge=0, le=1440)
    to_minute: int = Field(ge=0, le=1440)
    why: str = Text


class ContactForm(Model):
    role: str = Text
    name: str = Text
    email: str = Text
    phone: str = Text


class VideoForm(Model):
    profile: str
    streams: int = Field(ge=1, le=500)


class TargetsForm(Model):
    target_mos: float = 4.0
    required_share_pct: float = 97.0
    target_picture: float = 3.5
    max_delay_ms: float | None = None
    max_loss_pct: float | None = None
    max_variation_ms: float | None = None
    min_stretch_mos: float | None = 3.1
    """MOS of the worst ten seconds of a call."""
    required_days: int = 7
    required_busy_hours: int = 40
    required_moments: int = 125


class BriefForm(Model):
    """A site as it is written down. Left-out values have the defaults shown."""

    name: str = Field(min_length=1, max_length=120)
    place: str = Text
    """In a few words, as it stands in tables."""
    address: str = Text
    time_zone: str = "Europe/London"
    open_minute: int = Field(480, ge=0, le=1440)
    close_minute: int = Field(1080, ge=0, le=1440)
    open_days: str = Field("12345", max_length=7)
    """ISO weekdays, Monday 1, as digits."""
    blackouts: list[BlackoutForm] = Field(default_factory=list, max_length=20)
    ceiling_pct: float | None = Field(80, ge=1, le=100)
    """Most of the line's rate, each way, that test calls may take; null for no ceiling."""
    metered_mb: int | None = Field(None, ge=1, le=10_000_000)
    """Of a metered line: what loads may move in a day, both ways together; null where it is not metered."""
    contacts: list[ContactForm] = Field(default_factory=list, max_length=20)
    switches_by: str = Text
    firewall_by: str = Text
    line_by: str = Text
    medium: str = Text
    down_kbps: int | None = Field(None, ge=1, le=100_000_000)
    up_kbps: int | None = Field(None, ge=1, le=100_000_000)
    provider: str = Text
    people: int | None = Field(None, ge=1, le=100_000)
    calls_per_hour: float | None = Field(3.0, ge=0, le=1000)
    """A person in the busy hour."""
    minutes_per_call: float | None = Field(3.0, ge=0, le=600)
    blocking_pct: float | None = Field(1.0, gt=0, lt=100)
    stated_calls: int | None = Field(None, ge=1, le=2000)
    """Calls at once as somebody stated them; null computes them from the calling habits."""
    codec: str = "g711a"
    ptime_ms: int = Field(20, ge=1, le=1000)
    video: list[VideoForm] = Field(default_factory=list, max_length=10)
    srtp: bool = False
    pppoe: bool = False
    vlan_tags: int = Field(0, ge=0, le=2)
    tunnel_bytes: int = Field(0, ge=0, le=200)
    ipv6: bool = False
    targets: TargetsForm = Field(default_factory=TargetsForm)


class PresetView(Model):
    id: int | None
    """Null for the ones that come with the program."""
    title: str
    says: str
    targets: TargetsForm


class VideoProfileView(Model):
    name: str
    title: str
    kbps: int
    frames_per_s: int


class BriefPage(Model):
    changes: list[BriefChange]
    """What it said before, newest first."""
    engagement_slug: str
    engagement_name: str
    site_slug: str | None
    archived: bool
    form: BriefForm
    bounds: list[Bound]
    presets: list[PresetView]
    video_profiles: list[VideoProfileView]
    time_zones: list[str]


class KeepPreset(Model):
    title: str = Field(min_length=1, max_length=60)
    targets: TargetsForm


class PresetList(Model):
    presets: list[PresetView]


class StreamLoad(Model):
    """All streams of one kind, each way."""

    title: str
    streams: int
    packets_per_s: float
    ip_kbps: float
    """At IP in the site's version, with RTCP, SRTP and tunnel."""
    wire_kbps: float
    """On Ethernet with preamble and gap, all overheads."""
    line_kbps: float
    """What the line's rate must carry: IP and PPPoE."""


class RunArithmetic(Model):
    """The load that would show the needed calls: a short run in each of so many ten-minute moments."""

    calls_at_once: int
    call_s: float
    moments: int
    load_s: float
    """Of load in all."""
    calls: int
    probes: int
    """One probe places up to 100 calls."""


class Arithmetic(Model):
    need: Need | None
    """Null where the number of calls was stated."""
    needed_calls: int
    loads: list[StreamLoad]
    line_kbps: float
    share_up_pct: float | None
    share_down_pct: float | None
    ceiling_calls: int | None
    """Most calls at once that the site's ceiling lets a test place."""
    run: RunArithmetic
    moments_to_show: int
    """Without a bad call, before the required share is shown."""
    best_mos: float
    """What the codec reaches over a network without delay, loss or variation, on its own scale."""
    remarks: list[str]


# Making, copying, archiving


class EngagementForm(Model):
    name: str = Field(min_length=1, max_length=120)
    summary: str = Field("", max_length=600)
    paper: Paper = "A4"
    """What its reports are printed on."""


class Archive(Model):
    archived: bool


class Duplicate(Model):
    name: str = Field(min_length=1, max_length=120)


class Made(Model):
    slug: str


class SiteImport(Model):
    csv: str = Field(max_length=1_000_000)
    keep: bool = False
    """False only reads and says what would be made."""


class ImportLine(Model):
    line: int
    """In the file; the header is line 1."""
    name: str
    place: str
    needed_calls: int | None
    problem: str | None
    change: Literal["new", "changed", "unchanged"]
    """A site of this name is changed; nothing is doubled."""
    slug: str | None
    """Of the site, once there is one."""


class SiteImportAnswer(Model):
    lines: list[ImportLine]
    state: Literal["read", "kept"]
