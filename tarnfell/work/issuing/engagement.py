"""The page of all sites of an engagement, as their records are now."""

from __future__ import annotations

import hashlib
import sqlite3
from datetime import UTC, datetime

from tarnfell.report.engagement import EngagementReport, SiteOnPage, engagement_report
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us
from tarnfell.store.engagements import Engagement
from tarnfell.work.evidence.evaluations import evaluate
from tarnfell.work.issuing.report import brand_of, report_mark


def engagement_mark(db: sqlite3.Connection, engagement: Engagement) -> str:
    """Differs whenever the page would say something else, but for its date."""
    sites = [report_mark(db, site) for site in site_store.sites_of(db, engagement.id)]
    parts = engagement.name, engagement.summary, engagement.paper, brand_of(db, engagement.id), sites
    return hashlib.sha256(repr(parts).encode()).hexdigest()


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
