"""What customers see of their engagement: reports that were issued and, where they may, how its sites stand now."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.report.build import summary_of
from tarnfell.server.access import require_engagement
from tarnfell.server.http.api import endpoint
from tarnfell.server.judge.shown import strip_view, verdict_view
from tarnfell.server.people.models.people import (
    ShownEngagement,
    ShownList,
    ShownNow,
    ShownPage,
    ShownReport,
    ShownSite,
)
from tarnfell.store import engagements as engagement_store
from tarnfell.store import issued as issued_store
from tarnfell.store import sites as site_store
from tarnfell.store.issued import Issued
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import evaluate

blueprint = Blueprint("shown", __name__)


@endpoint(blueprint, "GET", "/api/shown", needs="customer", response=ShownList)
def list_shown() -> ShownList:
    """The engagements that are shown to one as to a customer."""
    found = engagement_store.engagements_of(g.db, g.user.id, shown=True)
    return ShownList(engagements=[ShownEngagement(slug=one.slug, name=one.name) for one in found])


@endpoint(blueprint, "GET", "/api/engagements/<slug>/shown", needs="customer", response=ShownPage)
def show_to_customer(slug: str) -> ShownPage:
    """An engagement as its customers see it."""
    engagement = require_engagement(slug)
    return ShownPage(
        engagement_name=engagement.name,
        summary=engagement.summary,
        live=engagement.live,
        sites=[_site(one, engagement.live) for one in site_store.sites_of(g.db, engagement.id)],
    )


def _site(site: Site, live: bool) -> ShownSite:
    return ShownSite(
        name=site.name,
        place=site.place,
        time_zone=site.time_zone,
        issued=[_report(one) for one in issued_store.issued_of(g.db, site.id)],
        now=_now(site) if live else None,
    )


def _now(site: Site) -> ShownNow:
    evaluated = evaluate(g.db, site)
    return ShownNow(
        verdict=verdict_view(evaluated),
        summary=list(summary_of(evaluated.evaluation)),
        strip=strip_view(evaluated.evaluation),
    )


def _report(one: Issued) -> ShownReport:
    newer = issued_store.by_id(g.db, one.replaced_by) if one.replaced_by else None
    return ShownReport(
        id=one.id,
        number=one.number,
        issued_us=one.issued_us,
        word=one.word,
        provisional=None if one.provisional is None else bool(one.provisional),
        low=one.low,
        high=one.high,
        state=one.state,
        replaced_by=newer.number if newer else "",
        withdrawn=one.withdrawn,
        has_pdf=one.pdf_sha256 is not None,
    )
