"""Filling a site's line with calls beside it: asked for with consent, followed, and what came of it."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import ZoneInfo

from flask import Blueprint, g

from tarnfell.core.codecs import find_codec
from tarnfell.core.line.measure import throughput_kbps
from tarnfell.core.schedule import Span, from_us, to_us
from tarnfell.server.access import require_far_end, require_fill, require_fill_plan, require_probe, require_site
from tarnfell.server.check.ends import far_end_choices, probe_choices
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.models.fills import AskFill, FillDetail, FillLine, FillPage, FillPlanLine, FillProgress
from tarnfell.server.place.presence import look_at
from tarnfell.store import browsers as browser_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import fill_plans as plan_store
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.fill_plans import FillPlanned
from tarnfell.store.fills import Fill, FillAsked
from tarnfell.store.jobs import Job
from tarnfell.store.places import FarEnd
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.fill import FillPlan, FillResult
from tarnfell.work.placing.check import WishError, start_of
from tarnfell.work.placing.metered import left_bytes, within_allowance
from tarnfell.work.placing.rules import about_ends, about_hours, against_filling, ceiling_kbps

blueprint = Blueprint("fills", __name__)

SHOWN = 20
WORDS = {
    "waiting": "Waiting for the probe.",
    "taken": "Picked up by the probe.",
    "running": "Filling the line.",
    "done": "Being judged.",
    "failed": "Failed.",
}


@endpoint(blueprint, "GET", "/api/sites/<slug>/fills", response=FillPage)
def show_fills(slug: str) -> FillPage:
    """The newest fills of a site's line, and what the next would be."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/fills", response=FillPage)
def ask_fill(slug: str, body: AskFill) -> FillPage:
    """Have a probe fill the line, with two calls beside it."""
    site = require_site(slug)
    probe, far_end = require_probe(site, body.probe_id), require_far_end(body.far_end_id)
    asked = _asked(site, far_end, body)
    if body.when != "now":
        start_us, rule = _start(site, probe, far_end, asked, body)
        with writing(g.db):
            plan_store.add(g.db, site.id, probe.id, asked, start_us, rule, g.user.id)
        return _page(site)
    with writing(g.db):
        reason = against_filling(g.db, site, probe, far_end, asked.plan, from_us(now_us()))
        if reason:
            raise Problem(409, reason.words)
        asked = within_allowance(g.db, site, asked, from_us(now_us()))
        job_store.ask(g.db, site.id, probe.id, "fill", g.user.id, plain(asked))
    return _page(site)


def _asked(site: Site, far_end: FarEnd, body: AskFill) -> FillAsked:
    if len(set(body.ways)) != len(body.ways):
        raise Problem(422, "Each way is filled once.")
    kept_below = 0 if body.beyond_ceiling else ceiling_kbps(site) or 0
    plan = FillPlan(body.seconds, body.streams, ways=tuple(body.ways), ceiling_kbps=kept_below)
    return FillAsked(far_end.id, site.codec, site.ptime_ms, plan)


def _start(site: Site, probe: Probe, far_end: FarEnd, asked: FillAsked, body: AskFill) -> tuple[int, str | None]:
    """When it is to begin by itself, and its rule. Raises Problem for what can never be begun."""
    rule = body.rule if body.when == "repeat" else None
    try:
        start = start_of(site, body.when, body.start_local, body.rule)
    except WishError as error:
        raise Problem(422, str(error)) from None
    assert start is not None  # only a draft has none
    if to_us(start) < now_us():
        raise Problem(422, "That time is over. Choose one to come.")
    hours = None if rule else about_hours(site, Span(start, start + timedelta(seconds=asked.plan.length_s)))
    reason = about_ends(g.db, site, probe, far_end) or hours
    if reason:
        raise Problem(409, reason.words)
    return to_us(start), rule


@endpoint(blueprint, "PUT", "/api/sites/<slug>/fill-plans/<int:plan_id>", response=FillPage)
def change_fill_plan(slug: str, plan_id: int, body: AskFill) -> FillPage:
    """Another start, length or end of fills that are to come."""
    site = require_site(slug)
    plan = require_fill_plan(site, plan_id)
    if body.when == "now":
        raise Problem(422, "Say when they are to begin, or fill the line now and remove these.")
    probe, far_end = require_probe(site, body.probe_id), require_far_end(body.far_end_id)
    asked = _asked(site, far_end, body)
    start_us, rule = _start(site, probe, far_end, asked, body)
    with writing(g.db):
        plan_store.change(g.db, plan.id, probe.id, asked, start_us, rule)
    return _page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/fill-plans/<int:plan_id>", response=FillPage)
def drop_fill_plan(slug: str, plan_id: int) -> FillPage:
    """Begin it no more. What was measured stays."""
    site = require_site(slug)
    plan = require_fill_plan(site, plan_id)
    with writing(g.db):
        plan_store.drop(g.db, plan.id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/fills/<int:job_id>/stop", response=FillPage)
def stop_fill(slug: str, job_id: int) -> FillPage:
    """End it now; what was measured is kept."""
    site = require_site(slug)
    with writing(g.db):
        job_store.ask_stop(g.db, require_fill(site, job_id).id)
    return _page(site)


@endpoint(blueprint, "GET", "/api/sites/<slug>/fills/<int:job_id>", response=FillDetail)
def show_fill(slug: str, job_id: int) -> FillDetail:
    """What one fill came to."""
    site = require_site(slug)
    job = require_fill(site, job_id)
    fill = fill_store.fill_by_id(g.db, job.id)
    return FillDetail(line=_line(job, fill, *_names(site)), filled=fill.filled if fill else None)


def _page(site: Site) -> FillPage:
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    fills = {one.job_id: one for one in fill_store.fills_of(g.db, site.id, SHOWN)}
    names = _names(site)
    plan = FillPlan()
    return FillPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        probes=probe_choices(site),
        far_ends=far_end_choices(site),
        up_kbps=site.up_kbps,
        down_kbps=site.down_kbps,
        ceiling_pct=site.ceiling_pct,
        ceiling_kbps=ceiling_kbps(site),
        metered_left_bytes=left_bytes(g.db, site, from_us(now_us())),
        target_mos=site.target_mos,
        codec_title=find_codec(site.codec).title,
        idle_s=plan.idle_s,
        rest_s=plan.rest_s,
        plans=[_planned(one, ZoneInfo(site.time_zone), *names) for one in plan_store.scheduled_of(g.db, site.id)],
        fills=[_line(job, fills.get(job.id), *names) for job in job_store.newest_of_kind(g.db, site.id, "fill", SHOWN)],
    )


def _planned(one: FillPlanned, zone: ZoneInfo, probes: dict[int, str], far_ends: dict[int, str]) -> FillPlanLine:
    assert one.next_us is not None  # it is scheduled
    plan = one.asked.plan
    return FillPlanLine(
        id=one.id,
        probe_id=one.probe_id,
        far_end_id=one.asked.far_end_id,
        probe=probes.get(one.probe_id, "a retired probe"),
        far_end=far_ends.get(one.asked.far_end_id, "an archived far end"),
        seconds=plan.seconds,
        ways=list(plan.ways),
        ceiling_kbps=plan.ceiling_kbps,
        next_us=one.next_us,
        next_local=from_us(one.next_us).astimezone(zone).strftime("%Y-%m-%dT%H:%M"),
        recurs=one.rule,
        last_us=one.last_us,
        last_words=one.last_words,
    )


def _names(site: Site) -> tuple[dict[int, str], dict[int, str]]:
    probes = {probe.id: probe.name for probe in probe_store.probes_of(g.db, site.id)}
    probes |= {one.id: f"{one.name} (browser)" for one in browser_store.browsers_of(g.db, site.id)}
    return probes, {far.id: far.name for far in place_store.far_ends(g.db)}


def _line(job: Job, fill: Fill | None, probes: dict[int, str], far_ends: dict[int, str]) -> FillLine:
    asked = read(FillAsked, job.arguments)
    judged = fill is not None and fill.filled is not None
    words = job.failure or (fill.failure if fill else None) or ("" if judged else WORDS[job.state])
    return FillLine(
        id=job.id,
        probe=probes.get(job.probe_id, "a retired probe"),
        far_end=far_ends.get(asked.far_end_id, "an archived far end"),
        way=browser_store.way_of(g.db, job.id),
        asked_us=job.created_us,
        state=job.state,
        words=words,
        seconds=asked.plan.seconds,
        streams=asked.plan.streams,
        ceiling_kbps=asked.plan.ceiling_kbps,
        progress=_progress(job),
        says=list(fill.filled.says) if fill and fill.filled else [],
        judged=judged,
    )


def _progress(job: Job) -> list[FillProgress]:
    if not job.result or job.state not in job_store.OPEN:
        return []
    return [
        FillProgress(way=one.way, up_kbps=throughput_kbps(one.up, one), down_kbps=throughput_kbps(one.down, one))
        for one in read(FillResult, job.result).phases
    ]
