"""Links for tests from a browser: who has one, whether it was opened, and what came of it."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.codecs import find_codec
from tarnfell.server.access import require_browser, require_site, require_test_point
from tarnfell.server.http.address import origin_for
from tarnfell.server.http.api import endpoint
from tarnfell.server.place.models.browsers import BrowserCounts, BrowserLinkForm, BrowserLinks, BrowserLinkView
from tarnfell.server.place.page import invitation_view
from tarnfell.server.place.presence import look_at
from tarnfell.server.place.self_runs import run_beside, self_fills, self_runs, way_beside
from tarnfell.store import browsers as browser_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.wire.browser import MOST_CALLS
from tarnfell.work.placing.browser_ends import ends_for_browsers
from tarnfell.work.placing.rules import about_browser_fill

blueprint = Blueprint("browser_links", __name__)


@endpoint(blueprint, "GET", "/api/sites/<slug>/browser-links", response=BrowserLinks)
def show_links(slug: str) -> BrowserLinks:
    """Links for tests from a browser, and what came of them."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/browser-links", response=BrowserLinks)
def add_link(slug: str, body: BrowserLinkForm) -> BrowserLinks:
    """A link by which somebody tests from a browser."""
    site = require_site(slug)
    require_test_point(site, body.test_point_id)
    with writing(g.db):
        number = browser_store.add_link(
            g.db,
            site.id,
            body.test_point_id,
            body.name,
            site.codec,
            site.ptime_ms,
            body.calls,
            body.seconds,
            body.fill_s,
        )
        probe_store.invite(g.db, number, g.user.id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/browser-links/<int:probe_id>/link", response=BrowserLinks)
def renew_browser_link(slug: str, probe_id: int) -> BrowserLinks:
    """A new link for a test from a browser; the one before stops working."""
    site = require_site(slug)
    require_browser(site, probe_id)
    with writing(g.db):
        probe_store.invite(g.db, probe_id, g.user.id)
    return _page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/browser-links/<int:probe_id>/link", response=BrowserLinks)
def revoke_browser_link(slug: str, probe_id: int) -> BrowserLinks:
    """Take back a link for tests from a browser: nobody can begin a test by it any more."""
    site = require_site(slug)
    require_browser(site, probe_id)
    with writing(g.db):
        probe_store.revoke(g.db, probe_id)
    return _page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/browser-links/<int:probe_id>", response=BrowserLinks)
def put_link_away(slug: str, probe_id: int) -> BrowserLinks:
    """Put a link for tests from a browser away; its runs stay with the site."""
    site = require_site(slug)
    require_browser(site, probe_id)
    with writing(g.db):
        probe_store.revoke(g.db, probe_id)
        probe_store.retire(g.db, probe_id)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/browser-counts", response=BrowserLinks)
def set_browser_counts(slug: str, body: BrowserCounts) -> BrowserLinks:
    """Say whether calls from browsers count for the verdict."""
    site = require_site(slug)
    with writing(g.db):
        site_store.change_site(g.db, site.id, browser_counts=body.counts)
    return _page(site_store.site_by_id(g.db, site.id))


def _page(site: Site) -> BrowserLinks:
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    return BrowserLinks(
        site_name=site.name,
        site_slug=site.slug,
        engagement_name=engagement.name,
        engagement_slug=engagement.slug,
        time_zone=site.time_zone,
        target_mos=site.target_mos,
        counts=site.browser_counts,
        not_counted=browser_store.not_counted(g.db, site.id),
        test_points={one.id: one.name for one in place_store.test_points_of(g.db, site.id)},
        most_calls=MOST_CALLS,
        no_fill=reason.words if (reason := about_browser_fill(site)) else None,
        far_ends=[one.name for one in ends_for_browsers(g.db, site)],
        links=[_view(site, one) for one in browser_store.browsers_of(g.db, site.id)],
    )


def _view(site: Site, probe: Probe) -> BrowserLinkView:
    link = browser_store.link_of(g.db, probe.id)
    assert link is not None  # made with its probe
    return BrowserLinkView(
        probe_id=probe.id,
        name=probe.name,
        test_point=probe.test_point,
        codec_title=find_codec(link.codec).title,
        calls=link.calls,
        seconds=link.seconds,
        invitation=invitation_view(
            probe_store.newest_invitation(g.db, probe.id), "test", origin_for(site.engagement_id)
        ),
        created_us=probe.created_us,
        fill_s=link.fill_s,
        runs=self_runs(g.db, site, probe.id),
        fills=self_fills(g.db, probe.id),
        beside=run_beside(g.db, site, probe.id),
        way=way_beside(g.db, site, probe.id),
    )
