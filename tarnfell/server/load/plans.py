"""Plans of load: what speaks against one and the nearest that works, when it runs, and what came of it."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, g

from tarnfell.core.rates import PlanError, hold, ramp
from tarnfell.core.schedule import (
    from_us,
    next_start,
    to_us,
)
from tarnfell.core.targets import in_words
from tarnfell.server.access import require_plan, require_series, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.models.base import Paging
from tarnfell.server.load import calendar
from tarnfell.server.load.models.plans import (
    PlanCheck,
    PlanForm,
    PlanLine,
    PlanList,
    PlanMade,
    PlanProblem,
    SeriesLine,
    SeriesPage,
)
from tarnfell.server.load.words import load_words, video_loads
from tarnfell.server.place.presence import look_at
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.plans import Plan, Series
from tarnfell.store.probes import Probe
from tarnfell.store.runs import RunSpec
from tarnfell.store.sites import Site
from tarnfell.work.judging.series import capacity_of_runs, step_of
from tarnfell.work.placing.carry_out import carry_out
from tarnfell.work.placing.check import Checked, Wish, WishError, check, start_of

blueprint = Blueprint("plans", __name__)

SERIES_SHOWN = 10


@endpoint(blueprint, "POST", "/api/sites/<slug>/plans/check", response=PlanCheck)
def check_plan(slug: str, body: PlanForm) -> PlanCheck:
    """What a plan costs and yields, and what speaks against it. Nothing is kept."""
    site = require_site(slug)
    look_at(site.id)
    checked = _checked(site, body)
    problems = [
        PlanProblem(
            words=one.words,
            fix_words=one.fix_words,
            fix=None if one.changes is None else body.model_copy(update=one.changes),
        )
        for one in checked.problems
    ]
    return PlanCheck(problems=problems, remarks=checked.remarks, takes=checked.takes)


@endpoint(blueprint, "POST", "/api/sites/<slug>/plans", response=PlanMade)
def make_plan(slug: str, body: PlanForm) -> PlanMade:
    """Make a plan: started now, scheduled, or kept as a draft that asks to be scheduled."""
    site = require_site(slug)
    _refuse_faults(site, body)
    with writing(g.db):
        plan_id = plan_store.add_plan(g.db, site_id=site.id, made_by=g.user.id, **_columns(site, body))
    return _made(plan_id, body)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/plans/<int:plan_id>", response=PlanMade)
def change_plan(slug: str, plan_id: int, body: PlanForm) -> PlanMade:
    """Change a plan that is not over, or schedule a draft."""
    site = require_site(slug)
    plan = require_plan(site, plan_id)
    if plan.state not in ("draft", "scheduled"):
        raise Problem(409, "This plan is over. Make a new one.")
    _refuse_faults(site, body, but=plan.id)
    with writing(g.db):
        plan_store.change_plan(g.db, plan.id, **_columns(site, body))
    return _made(plan.id, body)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/plans/<int:plan_id>", response=PlanList)
def drop_plan(slug: str, plan_id: int) -> PlanList:
    """Start it no more. What it measured stays."""
    site = require_site(slug)
    plan = require_plan(site, plan_id)
    with writing(g.db):
        plan_store.change_plan(g.db, plan.id, state="dropped", next_us=None)
    return _list(site)


@endpoint(blueprint, "GET", "/api/sites/<slug>/plans", response=PlanList)
def list_plans(slug: str, query: Paging) -> PlanList:
    """What is planned at a site, next first, and a page of what came of it, newest first."""
    return _list(require_site(slug), query.limit, query.offset)


@endpoint(blueprint, "GET", "/api/sites/<slug>/plans.ics", produces="text/calendar")
def export_plans(slug: str) -> Response:
    """What is scheduled, as a calendar for the site's own people (RFC 5545)."""
    site = require_site(slug)
    scheduled = [p for p in plan_store.plans_of(g.db, site.id) if p.state == "scheduled"]
    entries = [
        calendar.Entry(
            uid=f"plan-{plan.id}@tarnfell",
            title=f"Test calls at {site.name}: {plan.name}",
            words=f"{_load(plan)}. Placed by Tarnfell; calls of people are not touched.",
            start=from_us(plan.start_us or 0),
            length=timedelta(seconds=plan.shape.length_s),
            rule=plan.rule,
        )
        for plan in scheduled
    ]
    text = calendar.serialize(site.name, ZoneInfo(site.time_zone), entries, from_us(now_us()))
    headers = {"Content-Disposition": f'attachment; filename="{slug}-test-calls.ics"'}
    return Response(text, mimetype="text/calendar", headers=headers)


@endpoint(blueprint, "GET", "/api/series/<int:series_id>", response=SeriesPage)
def show_series(series_id: int) -> SeriesPage:
    """One carrying-out of a plan, step by step as it forms."""
    return _series_page(require_series(series_id))


@endpoint(blueprint, "POST", "/api/series/<int:series_id>/stop", response=SeriesPage)
def stop_series(series_id: int) -> SeriesPage:
    """Stop the run that is on and place no more; what was measured is kept."""
    series = require_series(series_id)
    with writing(g.db):
        for run in run_store.runs_of_series(g.db, series.id):
            if run.state in job_store.OPEN:
                job_store.ask_stop(g.db, run.id)
        plan_store.end_series(g.db, series.id, "stopped", f"Stopped by {g.user.name}.")
    return _series_page(require_series(series_id))


# Making


def _made(plan_id: int, form: PlanForm) -> PlanMade:
    if form.when != "now":
        return PlanMade(plan_id=plan_id, series_id=None)
    carry_out(g.db)
    series = plan_store.series_of(g.db, plan_store.plan_by_id(g.db, plan_id).site_id, 20)
    return PlanMade(plan_id=plan_id, series_id=next((s.id for s in series if s.plan_id == plan_id), None))


def _columns(site: Site, form: PlanForm) -> dict[str, object]:
    wish = _wish(site, form)
    shape, video, rule = wish.shape, wish.spec.video, wish.rule
    start = start_of(site, wish.when, wish.start_local, rule)
    start_us = None if start is None else to_us(start)
    following = None if start is None else next_start(start, rule, ZoneInfo(site.time_zone), from_us(now_us()))
    # A start that has just passed, as "now" has, is due at once.
    next_us = start_us if following is None else to_us(following)
    return {
        "name": form.name or load_words(shape, form.direction, video),
        "probe_id": form.probe_id,
        "far_end_id": form.far_end_id,
        "codec": form.codec,
        "ptime_ms": form.ptime_ms,
        "dscp": form.dscp,
        "shape": shape,
        "direction": form.direction,
        "video": video,
        "form": form.model_dump(),
        "state": "draft" if form.when == "draft" else "scheduled",
        "start_us": start_us,
        "rule": rule,
        "next_us": None if form.when == "draft" else next_us,
    }


def _wish(site: Site, form: PlanForm) -> Wish:
    """Raises Problem 422."""
    try:
        if form.shape == "hold":
            shape = hold(form.calls, form.call_s, form.rounds)
        else:
            shape = ramp(form.first, form.calls, form.by, form.call_s, form.rounds)
    except PlanError as error:
        raise Problem(422, str(error)) from None
    spec = RunSpec(
        site_id=site.id,
        probe_id=form.probe_id,
        far_end_id=form.far_end_id,
        codec=form.codec,
        ptime_ms=form.ptime_ms,
        calls=shape.most,
        seconds=form.call_s,
        dscp=form.dscp,
        direction=form.direction,
        video=video_loads(form.video),
    )
    return Wish(spec, shape, form.when, form.start_local, form.rule if form.when == "repeat" else None)


def _checked(site: Site, form: PlanForm, but: int | None = None) -> Checked:
    """Raises Problem 422."""
    try:
        return check(g.db, site, _wish(site, form), but)
    except WishError as error:
        raise Problem(422, str(error)) from None


def _refuse_faults(site: Site, form: PlanForm, but: int | None = None) -> None:
    """A draft may have faults that scheduling would not; what cannot be placed at all is never kept."""
    problems = _checked(site, form, but).problems
    if problems and form.when != "draft":
        raise Problem(409, problems[0].words)


# Showing


def _list(site: Site, limit: int = SERIES_SHOWN, offset: int = 0) -> PlanList:
    look_at(site.id)
    probes = {p.id: p for p in probe_store.probes_of(g.db, site.id)}
    lines = []
    for plan in plan_store.plans_of(g.db, site.id):
        far_end = place_store.far_end_by_id(g.db, plan.far_end_id)
        lines.append(
            PlanLine(
                id=plan.id,
                name=plan.name,
                state=plan.state,
                form=PlanForm.model_validate(plan.form),
                load=_load(plan),
                next_us=plan.next_us,
                recurs=plan.rule,
                run_s=plan.shape.length_s,
                probe=_name_of(probes, plan.probe_id),
                far_end=far_end.name if far_end else "",
            )
        )
    shown = plan_store.series_of(g.db, site.id, limit, offset)
    return PlanList(
        plans=lines,
        series=[_series_line(site, s) for s in shown],
        series_total=plan_store.count_series(g.db, site.id),
    )


def _load(plan: Plan) -> str:
    return load_words(plan.shape, plan.direction, plan.video)


def _name_of(probes: dict[int, Probe], probe_id: int) -> str:
    return probes[probe_id].name if probe_id in probes else "a retired probe"


def _series_line(site: Site, series: Series) -> SeriesLine:
    plan = plan_store.plan_by_id(g.db, series.plan_id)
    runs = run_store.runs_of_series(g.db, series.id)
    return SeriesLine(
        id=series.id,
        plan_id=plan.id,
        name=plan.name,
        state=series.state,
        due_us=series.due_us,
        words=series.words,
        held_calls=capacity_of_runs(g.db, runs, site).observed,
        steps=len(plan.shape.steps) * plan.shape.rounds,
        steps_done=sum(run.state == "done" for run in runs),
    )


def _series_page(series: Series) -> SeriesPage:
    plan = plan_store.plan_by_id(g.db, series.plan_id)
    site = site_store.site_by_id(g.db, series.site_id)
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    runs = run_store.runs_of_series(g.db, series.id)
    found = capacity_of_runs(g.db, runs, site)
    current = next((run.id for run in runs if run.state in job_store.OPEN), None)
    return SeriesPage(
        id=series.id,
        plan_id=plan.id,
        name=plan.name,
        load=_load(plan),
        site_slug=site.slug,
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        state=series.state,
        words=series.words,
        due_us=series.due_us,
        began_us=series.began_us,
        ended_us=series.ended_us,
        run_s=plan.shape.length_s,
        current_run_id=current,
        steps=[step_of(g.db, n, runs, found, site) for n in sorted(set(plan.shape.steps))],
        shown_calls=found.sustained,
        held_calls=found.observed,
        needed_calls=site.needed_calls,
        required_share_pct=site.required_share_pct,
        acceptable_words=in_words(site.targets),
    )
