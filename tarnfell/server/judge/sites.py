"""One site: its brief, where the work stands, the day sheet, requirements, causes and score."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import VideoLoad, call_rate, video_rate
from tarnfell.core.targets import in_words
from tarnfell.core.video import find_profile
from tarnfell.server.access import require_site
from tarnfell.server.http.api import endpoint
from tarnfell.server.judge.models.sites import (
    BriefView,
    DismissedView,
    FarEndView,
    ProbeView,
    RemedyView,
    RunLine,
    RunList,
    RunQuery,
    SitePage,
)
from tarnfell.server.judge.on_sheet import imported_on_sheet
from tarnfell.server.judge.shown import (
    capacity_views,
    cause_view,
    cause_views,
    coverage_view,
    dimension_views,
    evidence_view,
    path_view,
    share_view,
    sheet_view,
    verdict_view,
)
from tarnfell.server.load.words import FLOW_WORDS, video_views, video_words
from tarnfell.server.place.presence import look_at
from tarnfell.store import engagements as engagement_store
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import remedies as remedy_store
from tarnfell.store import runs as run_store
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import evaluate
from tarnfell.work.issuing.report import watched_path
from tarnfell.work.judging.calls import good_calls
from tarnfell.work.judging.checks import newest_done
from tarnfell.work.judging.next_step import next_step
from tarnfell.work.judging.site_words import business_hours, measured_from
from tarnfell.work.judging.stages import stages
from tarnfell.work.placing.presence import is_online

blueprint = Blueprint("sites", __name__)

STATE_WORDS = {
    "waiting": "waiting for the probe",
    "taken": "picked up by the probe",
    "running": "running",
    "done": "done",
    "failed": "failed",
}
RUNS_SHOWN = 12


@endpoint(blueprint, "GET", "/api/sites/<slug>", response=SitePage)
def show_site(slug: str) -> SitePage:
    """One site."""
    site = require_site(slug)
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    evaluated = evaluate(g.db, site)
    evaluation = evaluated.evaluation
    probes = probe_store.probes_of(g.db, site.id)
    far_ends = place_store.far_ends_of(g.db, site.id)
    open_runs = run_store.open_runs(g.db, site.id)
    done = newest_done(g.db, site.id)
    return SitePage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        slug=site.slug,
        name=site.name,
        archived=site.archived_us is not None,
        brief=brief_view(site),
        verdict=verdict_view(evaluated),
        share=share_view(evaluation),
        evidence=evidence_view(evaluation),
        coverage=coverage_view(evaluation, site, plan_store.plans_of(g.db, site.id)),
        sustained_calls=evaluation.verdict.capacity.sustained,
        requirements=list(evaluation.verdict.requirements),
        capacity=capacity_views(evaluation),
        left_out=list(evaluation.left_out),
        remedies=[RemedyView.model_validate(r) for r in remedy_store.remedies_of(g.db, site.id)],
        next=next_step(evaluation, site, probes, far_ends, open_runs, plan_store.drafts_of(g.db, site.id)),
        stages=stages(evaluation, site, probes, open_runs, done.judged if done else None),
        path=path_view(
            evaluation, measured_from(g.db, site), far_ends[0] if far_ends else None, watched_path(g.db, site)
        ),
        sheet=sheet_view(evaluation, site, imported_on_sheet(g.db, site)),
        dimensions=dimension_views(evaluation),
        causes=cause_views(evaluation),
        dismissed=[
            DismissedView(cause=cause_view(one.cause), words=one.words, by=one.by) for one in evaluated.dismissed
        ],
        probes=[_probe(p) for p in probes],
        far_ends=[FarEndView.model_validate(f) for f in far_ends],
        runs=[_run_line(r, site) for r in run_store.placed_runs(g.db, site.id, RUNS_SHOWN)],
        runs_total=run_store.count_placed(g.db, site.id),
    )


@endpoint(blueprint, "GET", "/api/sites/<slug>/runs", response=RunList)
def list_runs(slug: str, query: RunQuery) -> RunList:
    """A site's runs, newest first."""
    site = require_site(slug)
    words = query.words.strip()
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    runs = run_store.placed_runs(g.db, site.id, query.limit, query.offset, words)
    return RunList(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        runs=[_run_line(r, site) for r in runs],
        total=run_store.count_placed(g.db, site.id, words),
    )


def brief_view(site: Site) -> BriefView:
    codec = find_codec(site.codec)
    rate = call_rate(codec, site.ptime_ms, site.link)
    needed = site.needed_calls * rate.line_kbps
    needed += sum(v.streams * video_rate(find_profile(v.profile), site.link).line_kbps for v in site.video)
    return BriefView(
        place=site.place,
        time_zone=site.time_zone,
        business_hours=business_hours(site),
        medium=site.medium,
        down_kbps=site.down_kbps,
        up_kbps=site.up_kbps,
        provider=site.provider,
        people=site.people,
        needed_calls=site.needed_calls,
        codec=site.codec,
        codec_title=codec.title,
        ptime_ms=site.ptime_ms,
        video=video_views(VideoLoad(v.profile, v.streams) for v in site.video),
        target_mos=site.target_mos,
        acceptable_words=in_words(site.targets),
        required_share_pct=site.required_share_pct,
        line_share_up_pct=100 * needed / site.up_kbps if site.up_kbps else None,
        line_share_down_pct=100 * needed / site.down_kbps if site.down_kbps else None,
    )


def _probe(probe: Probe) -> ProbeView:
    return ProbeView(
        id=probe.id,
        name=probe.name,
        test_point=probe.test_point,
        system=probe.around.system,
        last_contact_us=probe.last_contact_us,
        online=is_online(probe),
    )


def _run_line(run: Run, site: Site) -> RunLine:
    good = None
    if run.state == "done":
        good = good_calls(g.db, run, site.targets)
    return RunLine(
        id=run.id,
        state=run.state,
        name=run.name,
        note=run.note,
        words=run.failure or STATE_WORDS[run.state],
        created_us=run.created_us,
        codec_title=find_codec(run.codec).title,
        ptime_ms=run.ptime_ms,
        calls=run.calls,
        seconds=run.seconds,
        dscp=run.dscp,
        load=", ".join(part for part in (video_words(run.video), FLOW_WORDS[run.direction]) if part),
        good=good,
        tainted=bool(run.tainted),
        cut=run.cut_reason,
    )
