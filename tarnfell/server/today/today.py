"""The start page: over all engagements, what needs a look, goes on, comes next and has changed."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from flask import Blueprint, g

from tarnfell.core.daysheet import DAYS
from tarnfell.core.verdict.site import Evaluation
from tarnfell.server.http.api import endpoint
from tarnfell.server.judge.shown import verdict_view
from tarnfell.server.today.models import (
    TodayArchived,
    TodayChange,
    TodayEngagement,
    TodayHour,
    TodayItem,
    TodayPage,
    TodaySite,
)
from tarnfell.store import alerts as alert_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import today as today_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.engagements import Engagement
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import Evaluated, evaluate
from tarnfell.work.placing.presence import is_online
from tarnfell.work.today import Changed, Item, today, watched_hours

blueprint = Blueprint("today", __name__)

HOUR_US = 3_600_000_000
WEEK_US = DAYS * 24 * HOUR_US
SITES_SHOWN = 12
"""Of an engagement; its own page has them all."""


@endpoint(blueprint, "GET", "/api/today", response=TodayPage)
def show_today() -> TodayPage:
    """Over all engagements: what needs a look, goes on, comes next, and has changed since the last visit."""
    with writing(g.db):
        since_us = today_store.note_visit(g.db, g.user.id)
    at_us = now_us()
    until_us = (at_us // HOUR_US + 1) * HOUR_US
    found = today(g.db, g.user.id, since_us, at_us)
    engagements = engagement_store.engagements_of(g.db, g.user.id)
    at_work = [one for one in engagements if one.archived_us is None]
    sites = {one.id: site_store.sites_of(g.db, one.id) for one in at_work}
    names = {site.id: (site, one.name, one.slug) for one in at_work for site in sites[one.id]}
    alerts: dict[int, int] = {}
    for alert in alert_store.open_alerts(g.db):
        alerts[alert.site_id] = alerts.get(alert.site_id, 0) + 1
    return TodayPage(
        since_us=since_us,
        from_us=until_us - WEEK_US,
        until_us=until_us,
        trouble=[_item(one, *names[one.site_id]) for one in found.trouble if one.site_id in names],
        running=[_item(one, *names[one.site_id]) for one in found.running if one.site_id in names],
        coming=[_item(one, *names[one.site_id]) for one in found.coming if one.site_id in names],
        changed=[_change(one, *names[one.site_id][:2]) for one in found.changed if one.site_id in names],
        engagements=[_engagement(one, sites[one.id], alerts, until_us - WEEK_US) for one in at_work],
        archived=[TodayArchived(slug=one.slug, name=one.name) for one in engagements if one.archived_us is not None],
    )


def _item(one: Item, site: Site, engagement: str, engagement_slug: str) -> TodayItem:
    path = f"/sites/{site.slug}/{one.stage}"
    if one.stage == "alerts":
        path = f"/engagements/{engagement_slug}/alerts"
    elif one.stage == "run":
        path = f"/runs/{one.number}"
    return TodayItem(
        site_slug=site.slug,
        site_name=site.name,
        engagement_name=engagement,
        time_zone=site.time_zone,
        says=one.says,
        at_us=one.at_us,
        path=path,
    )


def _change(one: Changed, site: Site, engagement: str) -> TodayChange:
    return TodayChange(site_slug=site.slug, site_name=site.name, engagement_name=engagement, says=one.says)


def _engagement(one: Engagement, sites: list[Site], alerts: dict[int, int], from_us: int) -> TodayEngagement:
    evaluated = [(evaluate(g.db, site), site) for site in sites]
    evaluated.sort(key=lambda pair: (pair[0].evaluation.verdict.high, pair[0].evaluation.verdict.low))
    return TodayEngagement(
        slug=one.slug,
        name=one.name,
        summary=one.summary,
        sites=len(sites),
        shown=[_site(site, found, alerts, from_us) for found, site in evaluated[:SITES_SHOWN]],
    )


def _site(site: Site, evaluated: Evaluated, alerts: dict[int, int], from_us: int) -> TodaySite:
    probes = [one for one in probe_store.probes_of(g.db, site.id) if one.enrolled_us is not None]
    hours = [TodayHour(at_us=one.at_us, mos=one.mos) for one in watched_hours(g.db, site.id) if one.at_us >= from_us]
    watched = bool(hours)
    if not watched:
        hours = [one for one in _of_calls(evaluated.evaluation, site) if one.at_us >= from_us]
    return TodaySite(
        slug=site.slug,
        name=site.name,
        verdict=verdict_view(evaluated),
        hours_of="watch" if watched else "calls" if hours else None,
        hours=hours,
        alerts=alerts.get(site.id, 0),
        online=sum(map(is_online, probes)),
        probes=len(probes),
    )


def _of_calls(evaluation: Evaluation, site: Site) -> list[TodayHour]:
    """Hours of the site's clock that had calls, by the worst of them."""
    zone, found = ZoneInfo(site.time_zone), []
    for day in evaluation.sheet:
        midnight = datetime.fromisoformat(day.day).replace(tzinfo=zone)
        for hour in range(24):
            mos = day.worst_mos(hour * 6, hour * 6 + 6)
            if mos is not None:
                at = (midnight + timedelta(hours=hour)).timestamp()
                found.append(TodayHour(at_us=round(at * 1e6), mos=mos))
    return found
