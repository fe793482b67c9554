"""Plans of load, what speaks against one, and each carrying-out."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.rates import Flow
from tarnfell.server.http.models.base import Model
from tarnfell.server.load.models.runs import VideoLoadForm
from tarnfell.work.judging.series import SeriesStep
from tarnfell.work.placing.check import Takes


class PlanForm(Model):
    name: str = Field("", max_length=80)
    probe_id: int
    far_end_id: int
    codec: str
    ptime_ms: int = Field(20, ge=1, le=1000)
    dscp: int = Field(46, ge=0, le=63)
    direction: Flow = "both"
    """Which ways media flows."""
    video: list[VideoLoadForm] = Field(default_factory=list, max_length=10)
    """Held beside the calls at every step."""
    shape: Literal["hold", "ramp"] = "hold"
    calls: int = Field(ge=1, le=1000)
    """Held, or at the top of the ramp."""
    first: int = Field(1, ge=1, le=1000)
    by: int = Field(1, ge=1, le=1000)
    call_s: float = Field(60, ge=0, le=100_000)
    rounds: int = Field(1, ge=1, le=1000)
    when: Literal["draft", "now", "at", "repeat"] = "now"
    start_local: str | None = Field(None, max_length=16)
    """The site's wall clock, as 2026-11-25T09:00."""
    rule: str | None = Field(None, max_length=300)
    """RFC 5545 recurrence, such as FREQ=WEEKLY;BYDAY=MO,WE."""


class PlanProblem(Model):
    """Something that speaks against a plan, with the nearest plan that works."""

    words: str
    fix_words: str | None
    fix: PlanForm | None


class PlanCheck(Model):
    problems: list[PlanProblem]
    remarks: list[str]
    takes: Takes


class PlanLine(Model):
    id: int
    name: str
    state: Literal["draft", "scheduled", "ended", "dropped"]
    form: PlanForm
    load: str
    """In words."""
    next_us: int | None
    recurs: str | None
    run_s: float
    probe: str
    far_end: str


class SeriesLine(Model):
    id: int
    plan_id: int
    name: str
    state: Literal["waiting", "running", "done", "stopped", "missed", "failed"]
    due_us: int
    words: str
    held_calls: int | None
    """Up to which number the observed share reached the required one; one look proves little."""
    steps: int
    steps_done: int


class PlanList(Model):
    plans: list[PlanLine]
    series: list[SeriesLine]
    """A page of them, newest first."""
    series_total: int


class PlanMade(Model):
    plan_id: int
    series_id: int | None


class SeriesPage(Model):
    id: int
    plan_id: int
    name: str
    load: str
    site_slug: str
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    state: Literal["waiting", "running", "done", "stopped", "missed", "failed"]
    words: str
    due_us: int
    began_us: int | None
    ended_us: int | None
    run_s: float
    current_run_id: int | None
    steps: list[SeriesStep]
    shown_calls: int | None
    """Sustained at 95 % confidence by these runs alone."""
    held_calls: int | None
    needed_calls: int
    required_share_pct: float
    acceptable_words: str
