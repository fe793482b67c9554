"""The page of all sites of an engagement, as their records are now."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime

from tarnfell.report.engagement import EngagementReport, SiteOnPage, engagement_report
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us
from tarnfell.store.engagements import Engagement
from tarnfell.work.evidence.evaluations import evaluate
from tarnfell.work.issuing.report import brand_of


def report_of_engagement(db: sqlite3.Connection, engagement: Engagement) -> EngagementReport:
    """Sites at work; those that were archived are left out."""
    made = datetime.fromtimestamp(now_us() / 1e6, UTC)
    sites = []
    for site in site_store.sites_of(db, engagement.id):
        evaluated = evaluate(db, site)
        sites.append(SiteOnPage(site.name, evaluated.evaluation, site.brief.needed_calls, evaluated.behind))
    return engagement_report(
        engagement.name,
        engagement.summary,
        f"{made:%d %B %Y, %H:%M} UTC",
        sites,
        engagement.paper,
        brand_of(db, engagement.id),
    )
