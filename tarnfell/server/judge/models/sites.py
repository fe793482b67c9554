"""One site: where its work stands, its day sheet, requirements, causes and score."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.verdict.causes import Weight, Wording
from tarnfell.core.verdict.requirements import Requirement
from tarnfell.core.verdict.site import LeftOut
from tarnfell.server.brief.models.engagements import EvidenceView, PathView, ShareView, VerdictView
from tarnfell.server.http.models.base import Model, Paging
from tarnfell.server.load.models.runs import VideoLoadView
from tarnfell.store.jobs import State
from tarnfell.work.ingest.files import Cell
from tarnfell.work.judging.next_step import NextStep
from tarnfell.work.judging.stages import Stage
from tarnfell.work.placing.closing_plan import ClosingPlan


class BriefView(Model):
    place: str
    time_zone: str
    business_hours: str
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    provider: str
    people: int | None
    needed_calls: int
    codec: str
    codec_title: str
    ptime_ms: int
    video: list[VideoLoadView]
    target_mos: float
    acceptable_words: str
    """What each direction of a call must keep to be acceptable, for a sentence."""
    required_share_pct: float
    line_share_up_pct: float | None
    """What the needed calls take of the line, with RTCP, at IP."""
    line_share_down_pct: float | None


class ProbeView(Model):
    id: int
    name: str
    test_point: str
    system: str | None
    last_contact_us: int | None
    online: bool


class FarEndView(Model):
    id: int
    name: str
    place: str
    host: str
    port: int


class DaySheetDay(Model):
    """One local day in ten-minute cells, 00:00 first; None where nothing was measured."""

    day: str
    call_id: list[int | None]
    up_mos: list[float | None]
    down_mos: list[float | None]
    up_added_ms: list[float | None]
    down_added_ms: list[float | None]
    up_loss_pct: list[float | None]
    down_loss_pct: list[float | None]


class ImportedOnSheet(Model):
    id: int
    name: str
    kind: str
    test_point: str | None
    """The test point it speaks for."""
    cells: list[Cell]


class DaySheet(Model):
    days: list[DaySheetDay]
    imported: list[ImportedOnSheet]
    """Files that somebody wants to see beside it; they count into nothing."""
    open_minute: int
    close_minute: int
    open_days: str


class TakenView(Model):
    anchor: str
    """Of the cause."""
    title: str
    points: float


class DimensionView(Model):
    dimension: str
    title: str
    weight: int
    low: float
    high: float
    says: str
    lost_points: float
    open_points: float
    taken: list[TakenView]


class CauseView(Model):
    """One cause, by its key of the closed list."""

    anchor: str
    """Names it on its site's page."""
    key: str
    leg: str
    direction: Literal["up", "down", "both"]
    place: str
    """Direction and leg in words."""
    title: str
    says: list[str]
    alternatives: list[str]
    remedy: str
    who: str
    gain: str
    calls_hit: int
    calls: int
    of: str
    """What was hit: calls, or video streams."""
    call_ids: list[int]
    stream_ids: list[int]
    network: bool
    """False for what is not the network's fault."""
    note: str
    """The consultant's own."""
    weight: Weight
    as_found: Wording
    """As the evidence words it."""
    decided: list[str]
    """What of it is the consultant's, in words."""


class DismissedView(Model):
    cause: CauseView
    words: str
    by: str


class DecisionForm(Model):
    """Of the cause with this key, leg and direction. Where it says nothing, what was decided before is taken back."""

    key: CauseKey
    leg: LegName
    direction: Way
    dismissed: bool = False
    words: str = Field("", max_length=1000)
    weight: Weight = ""
    title: str = Field("", max_length=120)
    """In place of the evidence's own, as are the two below; empty: as found."""
    remedy: str = Field("", max_length=1000)
    who: str = Field("", max_length=120)


class DecisionView(Model):
    title: str
    dismissed: bool
    words: str


class CapacityStep(Model):
    """One number of concurrent calls over everything that was tried."""

    concurrent: int
    good: int
    calls: int
    moments: int
    pct: float | None
    fitted_pct: float
    low_pct: float
    high_pct: float
    state: Literal["shown", "shown not", "open"]
    more_moments: int


class RemedyView(Model):
    id: int
    at_us: int
    words: str
    set_aside: bool
    marked_by: str | None


class RemedyForm(Model):
    """A remedy was applied at the site."""

    at_local: str = Field(max_length=40)
    """Day and time at the site, such as 2026-11-20T14:00."""
    words: str = Field(min_length=1, max_length=200)
    set_aside: bool = True
    """What was measured before counts no more."""


class RemedyList(Model):
    remedies: list[RemedyView]


class RunQuery(Paging):
    words: str = Field("", max_length=100)
    """In its name, note, codec, state or failure."""


class RunLine(Model):
    id: int
    name: str
    note: str
    state: State
    words: str
    created_us: int
    codec_title: str
    ptime_ms: int
    calls: int
    seconds: float
    dscp: int
    load: str
    """Video beside the calls and the ways media flows, in words; empty for calls alone, both ways."""
    good: int | None
    """Calls with both directions at or above the target."""
    tainted: bool
    cut: str | None
    """Why the run was broken off by what it was to measure."""


class RunList(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    runs: list[RunLine]
    total: int


class HourView(Model):
    weekday: int
    """ISO, Monday 1."""
    hour: int
    business: bool
    days: int
    """On which calls were placed in it."""
    moments: int
    """Ten-minute moments with calls; 0 where none was placed."""
    most: int
    """Concurrent calls, at most."""


class CoverageView(Model):
    """The site's week, hour by hour, as calls have seen it."""

    hours: list[HourView]
    """Of business, or in which calls were placed."""
    business: int
    """Hours of business in a week."""
    seen: int
    """Of them, with calls."""
    closing: ClosingPlan | None
    """The plan that would give what is missing; None where nothing is, or where it cannot be placed."""


class SitePage(Model):
    engagement_slug: str
    engagement_name: str
    slug: str
    name: str
    archived: bool
    brief: BriefView
    verdict: VerdictView
    share: ShareView
    evidence: EvidenceView
    coverage: CoverageView
    sustained_calls: int | None
    requirements: list[Requirement]
    capacity: list[CapacityStep]
    left_out: list[LeftOut]
    remedies: list[RemedyView]
    next: NextStep
    stages: list[Stage]
    path: PathView | None
    sheet: DaySheet
    dimensions: list[DimensionView]
    causes: list[CauseView]
    dismissed: list[DismissedView]
    """Causes that the consultant dismissed; the points they took stay lost."""
    probes: list[ProbeView]
    far_ends: list[FarEndView]
    runs: list[RunLine]
    runs_total: int
