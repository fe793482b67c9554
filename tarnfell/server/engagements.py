"""Engagements: the comparison of their sites, one line a site."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.api import Problem, endpoint
from tarnfell.server.evaluate import evaluate, evidence_view, path_view, share_view, strip_view, verdict_view
from tarnfell.server.models import EngagementLine, EngagementList, EngagementPage, SiteLine
from tarnfell.server.stages import next_step
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.sites import Site

blueprint = Blueprint("engagements", __name__)


@endpoint(blueprint, "GET", "/api/engagements", response=EngagementList)
def list_engagements() -> EngagementList:
    """All engagements."""
    lines = [
        EngagementLine(slug=e.slug, name=e.name, summary=e.summary, sites=len(site_store.sites_of(g.db, e.id)))
        for e in site_store.engagements(g.db)
    ]
    return EngagementList(engagements=lines)


@endpoint(blueprint, "GET", "/api/engagements/<slug>", response=EngagementPage)
def show_engagement(slug: str) -> EngagementPage:
    """One engagement with its sites compared."""
    engagement = site_store.engagement_by_slug(g.db, slug)
    if engagement is None:
        raise Problem(404, f"There is no engagement “{slug}”.")
    return EngagementPage(
        slug=engagement.slug,
        name=engagement.name,
        summary=engagement.summary,
        sites=[_line(site) for site in site_store.sites_of(g.db, engagement.id)],
    )


def _line(site: Site) -> SiteLine:
    evaluation = evaluate(g.db, site)
    verdict = evaluation.verdict
    probes = probe_store.probes_of(g.db, site.id)
    far_ends = site_store.far_ends_of(g.db, site.id)
    spot = probes[0].spot if probes else "no probe"
    return SiteLine(
        slug=site.slug,
        name=site.name,
        place=site.place,
        medium=site.medium,
        down_kbps=site.down_kbps,
        up_kbps=site.up_kbps,
        needed_calls=site.needed_calls,
        sustained_calls=verdict.sustained_calls,
        verdict=verdict_view(evaluation),
        share=share_view(evaluation),
        evidence=evidence_view(evaluation),
        path=path_view(evaluation, spot, far_ends[0] if far_ends else None),
        strip=strip_view(evaluation),
        next=next_step(evaluation, site, probes, run_store.open_runs(g.db, site.id)),
    )
