"""A site's report as the customer sees it: HTML for the screen, PDF for paper, JSON for machines."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, g, jsonify

from tarnfell.core.rates import call_rate
from tarnfell.report.build import BriefChanged, Report, SiteFacts, build_report
from tarnfell.report.render import render_html, render_pdf
from tarnfell.server.access import require_site
from tarnfell.server.http.api import endpoint
from tarnfell.server.judge.sites import business_hours, measured_from
from tarnfell.store import briefs as brief_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import now_us
from tarnfell.work.evidence import evaluate

blueprint = Blueprint("reports", __name__)


@endpoint(blueprint, "GET", "/api/sites/<slug>/report.html", produces="text/html")
def report_html(slug: str) -> Response:
    """The report as a page."""
    return Response(render_html(_report(slug)), mimetype="text/html")


@endpoint(blueprint, "GET", "/api/sites/<slug>/report.pdf", produces="application/pdf")
def report_pdf(slug: str) -> Response:
    """The report on A4."""
    response = Response(render_pdf(_report(slug)), mimetype="application/pdf")
    response.headers["Content-Disposition"] = f'attachment; filename="{slug}-readiness.pdf"'
    return response


@endpoint(blueprint, "GET", "/api/sites/<slug>/report.json")
def report_json(slug: str) -> Response:
    """The report's figures."""
    return jsonify(_report(slug).as_json())


def _report(slug: str) -> Report:
    site = require_site(slug)
    probes = probe_store.probes_of(g.db, site.id)
    far_ends = place_store.far_ends_of(g.db, site.id)
    codec = codec_of_site(g.db, site.id, site.codec)
    facts = SiteFacts(
        engagement=engagement_store.engagement_by_id(g.db, site.engagement_id).name,
        name=site.name,
        place=site.place,
        time_zone=site.time_zone,
        business_hours=business_hours(site),
        open_minute=site.open_minute,
        close_minute=site.close_minute,
        open_days=site.open_days,
        medium=site.medium,
        down_kbps=site.down_kbps,
        up_kbps=site.up_kbps,
        provider=site.provider,
        test_point=measured_from(g.db, site, probes),
        far_end=far_ends[0].name if far_ends else "",
        codec=codec,
        ptime_ms=site.ptime_ms,
        rate=call_rate(codec, site.ptime_ms, site.link),
    )
    zone = ZoneInfo(site.time_zone)
    changes = [
        BriefChanged(
            f"{datetime.fromtimestamp(change.at_us / 1e6, UTC).astimezone(zone):%d %B %Y, %H:%M}",
            change.by,
            "; ".join(f"{one.what} from {one.before} to {one.after}" for one in change.changes),
        )
        for change in brief_store.changes_of(g.db, site.id)
    ]
    return build_report(facts, evaluate(g.db, site), now_us(), changes)
