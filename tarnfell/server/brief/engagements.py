"""Engagements: the comparison of their sites, one line a site."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import is_consultant, require_engagement
from tarnfell.server.brief.models.brief import Archive, EngagementForm, Made
from tarnfell.server.brief.models.engagements import (
    ArchivedSite,
    EngagementLine,
    EngagementList,
    EngagementPage,
    SiteLine,
)
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.shown import evidence_view, path_view, share_view, strip_view, verdict_view
from tarnfell.store import engagements as engagement_store
from tarnfell.store import members as member_store
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import evaluate
from tarnfell.work.issuing.report import watched_path
from tarnfell.work.judging.next_step import next_step

blueprint = Blueprint("engagements", __name__)


@endpoint(blueprint, "GET", "/api/engagements", response=EngagementList)
def list_engagements() -> EngagementList:
    """The engagements that one has to do with."""
    sites = site_store.at_work(g.db)
    lines = [
        EngagementLine(
            slug=e.slug,
            name=e.name,
            summary=e.summary,
            sites=sites.get(e.id, 0),
            archived_us=e.archived_us,
        )
        for e in engagement_store.engagements_of(g.db, g.user.id)
    ]
    return EngagementList(engagements=lines)


@endpoint(blueprint, "POST", "/api/engagements", response=Made)
def make_engagement(body: EngagementForm) -> Made:
    """Begin an engagement."""
    with writing(g.db):
        slug = site_store.free_slug(g.db, "engagement", body.name)
        g.engagement_id = engagement_store.add_engagement(g.db, slug, body.name, body.summary, body.paper)
        member_store.join(g.db, g.engagement_id, g.user.id, "consultant")
    return Made(slug=slug)


@endpoint(blueprint, "PUT", "/api/engagements/<slug>", needs="consultant", response=Made)
def change_engagement(slug: str, body: EngagementForm) -> Made:
    """Change an engagement's name, summary and paper; its address stays."""
    engagement = require_engagement(slug)
    with writing(g.db):
        engagement_store.change_engagement(g.db, engagement.id, body.name, body.summary, body.paper)
    return Made(slug=slug)


@endpoint(blueprint, "POST", "/api/engagements/<slug>/archive", needs="consultant", response=Made)
def archive_engagement(slug: str, body: Archive) -> Made:
    """Put an engagement away with its sites, or take it out again. Nothing of it is lost."""
    engagement = require_engagement(slug)
    if body.archived and any(run_store.open_runs(g.db, s.id) for s in site_store.sites_of(g.db, engagement.id)):
        raise Problem(409, "A run is in progress at one of its sites. Wait for it to end, or stop it, then archive.")
    with writing(g.db):
        engagement_store.archive_engagement(g.db, engagement.id, body.archived)
    return Made(slug=slug)


@endpoint(blueprint, "GET", "/api/engagements/<slug>", response=EngagementPage)
def show_engagement(slug: str) -> EngagementPage:
    """One engagement with its sites compared."""
    engagement = require_engagement(slug)
    return EngagementPage(
        slug=engagement.slug,
        name=engagement.name,
        summary=engagement.summary,
        paper=engagement.paper,
        may_change=is_consultant(engagement.id),
        archived=engagement.archived_us is not None,
        sites=[_line(site) for site in site_store.sites_of(g.db, engagement.id)],
        archived_sites=[
            ArchivedSite(slug=s.slug, name=s.name, archived_us=s.archived_us or 0)
            for s in site_store.sites_of(g.db, engagement.id, archived=True)
        ],
    )


def _line(site: Site) -> SiteLine:
    evaluated = evaluate(g.db, site)
    evaluation = evaluated.evaluation
    verdict = evaluation.verdict
    probes = probe_store.probes_of(g.db, site.id)
    far_ends = place_store.far_ends_of(g.db, site.id)
    test_point = probes[0].test_point if probes else "no probe"
    return SiteLine(
        slug=site.slug,
        name=site.name,
        place=site.place,
        medium=site.medium,
        down_kbps=site.down_kbps,
        up_kbps=site.up_kbps,
        needed_calls=site.needed_calls,
        sustained_calls=verdict.capacity.sustained,
        held_calls=verdict.capacity.observed,
        verdict=verdict_view(evaluated),
        share=share_view(evaluation),
        evidence=evidence_view(evaluation),
        path=path_view(evaluation, test_point, far_ends[0] if far_ends else None, watched_path(g.db, site)),
        strip=strip_view(evaluation),
        next=next_step(
            evaluation,
            site,
            probes,
            far_ends,
            run_store.open_runs(g.db, site.id),
            plan_store.drafts_of(g.db, site.id),
        ),
    )
