"""A site's report as the customer sees it: HTML for the screen, JSON for machines, PDF and CSV made by the clerk."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path

from flask import Blueprint, Response, g, jsonify

from tarnfell.report.build import Report
from tarnfell.report.data import report_data, schema
from tarnfell.report.engagement import engagement_html
from tarnfell.report.evidence import evidence_html
from tarnfell.report.render import render_html
from tarnfell.server.access import require_engagement, require_probe, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.report.documents import document_view
from tarnfell.server.report.models.documents import DocumentView, EvidenceQuery
from tarnfell.store.db import folder_of, writing
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.work.issuing.documents import (
    ask_for_calls,
    ask_for_engagement,
    ask_for_evidence,
    ask_for_report,
)
from tarnfell.work.issuing.engagement import report_of_engagement
from tarnfell.work.issuing.evidence import Fault, NoSuchFault, evidence_csv, evidence_of
from tarnfell.work.issuing.report import report_of

blueprint = Blueprint("reports", __name__)

NO_FAULT = "The watch does not tell of this fault any more: its samples were read again. Open the watch anew."


@endpoint(blueprint, "GET", "/api/sites/<slug>/report.html", produces="text/html")
def report_html(slug: str) -> Response:
    """The report as a page."""
    return Response(render_html(_report(slug)), mimetype="text/html")


@endpoint(blueprint, "GET", "/api/engagements/<slug>/report.html", produces="text/html")
def engagement_page(slug: str) -> Response:
    """All sites of an engagement on one page, with what to do first."""
    report = report_of_engagement(g.db, require_engagement(slug))
    return Response(engagement_html(report), mimetype="text/html")


@endpoint(blueprint, "POST", "/api/engagements/<slug>/report/pdf", response=DocumentView)
def ask_for_engagement_pdf(slug: str) -> DocumentView:
    """Have the page of all sites put on paper; one that is ready is given again as long as nothing has changed."""
    engagement = require_engagement(slug)
    with writing(g.db):
        task = ask_for_engagement(g.db, folder_of(g.db), engagement, g.user.id)
    return document_view(task)


@endpoint(blueprint, "GET", "/api/sites/<slug>/report.json")
def report_json(slug: str) -> Response:
    """The report's figures."""
    return jsonify(report_data(_report(slug)))


@endpoint(blueprint, "GET", "/api/report.schema.json", audience="anyone")
def figures_schema() -> Response:
    """What the figures of a report hold, as JSON Schema."""
    return Response(schema(), mimetype="application/schema+json")


@endpoint(blueprint, "POST", "/api/sites/<slug>/report/pdf", response=DocumentView)
def ask_for_pdf(slug: str) -> DocumentView:
    """Have the report put on paper; one that is ready is given again as long as nothing has changed."""
    return _asked_of_site(ask_for_report, slug)


@endpoint(blueprint, "POST", "/api/sites/<slug>/report/csv", response=DocumentView)
def ask_for_call_table(slug: str) -> DocumentView:
    """Have the calls that the report rests on put into a table, a row a direction, with what each counted as."""
    return _asked_of_site(ask_for_calls, slug)


@endpoint(blueprint, "GET", "/api/sites/<slug>/watch/evidence.html", produces="text/html")
def evidence_page(slug: str, query: EvidenceQuery) -> Response:
    """One fault that the watch of a probe found, on a page for whoever has to mend it."""
    probe = require_probe(require_site(slug), query.probe)
    try:
        return Response(evidence_html(evidence_of(g.db, Fault(probe.id, query.fault))), mimetype="text/html")
    except NoSuchFault:
        raise Problem(404, NO_FAULT) from None


@endpoint(blueprint, "GET", "/api/sites/<slug>/watch/evidence.csv", produces="text/csv")
def evidence_table(slug: str, query: EvidenceQuery) -> Response:
    """All times of that fault, and what each place answered in them."""
    site = require_site(slug)
    probe = require_probe(site, query.probe)
    try:
        text = evidence_csv(g.db, Fault(probe.id, query.fault))
    except NoSuchFault:
        raise Problem(404, NO_FAULT) from None
    headers = {"Content-Disposition": f'attachment; filename="{site.slug}-evidence.csv"'}
    return Response(text, mimetype="text/csv", headers=headers)


@endpoint(blueprint, "POST", "/api/sites/<slug>/watch/evidence/pdf", response=DocumentView)
def ask_for_evidence_pdf(slug: str, body: EvidenceQuery) -> DocumentView:
    """Have that page made on A4."""
    site = require_site(slug)
    fault = Fault(require_probe(site, body.probe).id, body.fault)
    try:
        with writing(g.db):
            task = ask_for_evidence(g.db, site, fault, g.user.id)
    except NoSuchFault:
        raise Problem(404, NO_FAULT) from None
    return document_view(task)


def _report(slug: str) -> Report:
    return report_of(g.db, require_site(slug))


def _asked_of_site(ask: Callable[[sqlite3.Connection, Path, Site, int], Task], slug: str) -> DocumentView:
    site = require_site(slug)
    with writing(g.db):
        task = ask(g.db, folder_of(g.db), site, g.user.id)
    return document_view(task)
