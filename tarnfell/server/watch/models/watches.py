"""Continuous samples: what is wished, and how they stand."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.causes import LegName, Way
from tarnfell.core.days.blame import Kind
from tarnfell.core.legs import Role
from tarnfell.server.brief.models.brief import BlackoutForm
from tarnfell.server.check.models.checks import EndChoice
from tarnfell.server.http.models.base import LAST_US, Model
from tarnfell.store.routines import What
from tarnfell.wire.kinds.watch import MAX_ECHOES
from tarnfell.work.watch.bench import MinuteBench
from tarnfell.work.watch.packing import MOST_PLACES
from tarnfell.work.watch.reading import WatchReading
from tarnfell.work.watch.sheet import LegMeasure, PlaceMeasure, PlaceParts, ServiceMeasure, WatchDay


class WatchPlaceForm(Model):
    """A place on the way, that is asked by echoes."""

    role: Role
    address: str = Field("", max_length=100)
    """Empty for the gateway that the probe's system has."""


class BesideForm(Model):
    """What goes on beside the samples: seconds from one start to the next, 0 for never."""

    call: int = Field(0, ge=0, le=86_400)
    """A call."""
    needed: int = Field(0, ge=0, le=86_400)
    """The calls and the video that the brief needs, in business hours."""
    fill: int = Field(0, ge=0, le=7 * 86_400)
    services: int = Field(0, ge=0, le=86_400)
    """Names and services, as the site's check has them."""
    consent: bool = False
    """Somebody at the site agreed that the line is filled again and again."""


class BesideView(Model):
    what: What
    every_s: int
    next_us: int
    begun_us: int | None
    """The newest start that took place."""
    left_us: int | None
    left_words: str
    """Of the newest that was left out."""
    quiet: str
    """Why nothing took place for twice the interval; empty where it did, or need not have."""


class BesideCost(Model):
    what: What
    start_bytes: float | None
    """Of one start at the most, both ways together; null where the line's rates are not known."""
    share: float
    """Of the day, in which it takes place at all."""
    usual_s: int
    """What is proposed; 0: nothing is."""


class WatchForm(Model):
    far_end_id: int
    interval_ms: int = Field(1000, ge=200, le=60_000)
    dscp: int = Field(46, ge=0, le=63)
    echoes: list[WatchPlaceForm] = Field(default_factory=list, max_length=MAX_ECHOES)
    large_every: int = Field(0, ge=0, le=1000)
    """Each so many-th round of echoes is of large packets; 0: none is."""
    beside: BesideForm | None = None


class WatchView(Model):
    """Continuous samples of a probe's way to one far end."""

    far_end_id: int
    far_end: str
    interval_ms: int
    dscp: int
    echoes: list[WatchPlaceForm]
    large_every: int
    state: Literal["ended", "starting", "sampling", "trouble", "offline", "quiet"]
    says: str
    first_us: int | None
    last_us: int | None
    answered: int
    lost: int
    not_sent: int
    """For want of a session, of a network, or of a machine that was awake: no evidence of the way."""
    without_us: int
    """Stretches between the first and the last of which no sample came in, together."""
    recent_rtt_ms: float | None
    """Median of the last ten minutes; null where nothing was answered."""
    recent_sent: int
    recent_lost: int
    recent_beside: int
    """Of the recent ones, taken while calls loaded the line."""
    beside: list[BesideView]


class WatchedProbe(Model):
    id: int
    name: str
    online: bool
    watch: WatchView | None
    proposed: list[WatchPlaceForm]
    """What a watch of it had best ask beside the far end."""


class EpisodeView(Model):
    """A stretch that would have spoiled calls, and what calls that were really placed in it came to."""

    from_us: int
    until_us: int
    leg: LegName
    kind: Kind
    certainty: float
    loss_pct: float
    late_pct: float
    added_ms: float | None
    added_p95_ms: float | None
    mos: float
    """Of a call that misses as much."""
    direction: Way | None
    """In which packets queued; null where that is not known."""
    seen_at: str
    calls: int
    calls_below: int
    """Of them with a direction below the target, or without one."""


class Watched(Model):
    """What the samples of one probe say."""

    probe_id: int
    reading: WatchReading
    episodes: list[EpisodeView]
    """Newest first."""
    days: list[WatchDay]
    compared: list[PlaceParts]
    """Over the same days."""
    asks_services: bool
    """Names and services were asked in these days."""


class WatchQuery(Model):
    probe: int = 0
    """0: the first that has samples."""
    days: int = Field(7, ge=1, le=92)
    measure: LegMeasure | PlaceMeasure | ServiceMeasure = "mos"
    place: int | None = Field(None, ge=0, le=MOST_PLACES)
    """Of the reading, whose days are shown; null: of the legs."""


class WatchRemedy(Model):
    at_us: int
    words: str


class WatchPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    target_mos: float
    open_minute: int
    close_minute: int
    open_days: str
    probes: list[WatchedProbe]
    far_ends: list[EndChoice]
    blackouts: list[BlackoutForm]
    """Hours of its week in which no load may be placed."""
    loads_us: list[int]
    """When load that somebody asked for began in the days that are shown, the first of each ten minutes."""
    remedies: list[WatchRemedy]
    """That were marked at the site, newest first."""
    watched: Watched | None
    """Null before the first samples were read."""
    stamp_bytes: int
    """Of one time stamp, of a small echo and of a large one, at IP and each way."""
    small_bytes: int
    large_bytes: int
    least_rounds: int
    """That trouble must last to be told from single losses."""
    beside: list[BesideCost]


class MinuteBenchQuery(Model):
    probe: int
    from_us: int = Field(ge=0, le=LAST_US)
    until_us: int = Field(ge=0, le=LAST_US)


class MinuteBenchPage(Model):
    bench: MinuteBench
