"""Figures of an engagement for a monitoring program, by a token of its own."""

from __future__ import annotations

from flask import Blueprint, Response, g

from tarnfell.server.http.api import endpoint
from tarnfell.store.db import now_us
from tarnfell.work.alerts.figures import CONTENT_TYPE, openmetrics

blueprint = Blueprint("metrics", __name__)


@endpoint(
    blueprint, "GET", "/api/engagements/<slug>/metrics", audience="monitor", produces="application/openmetrics-text"
)
def show_metrics(slug: str) -> Response:
    """How the engagement's probes, watches, calls and alerts stand (OpenMetrics 1.0)."""
    return Response(openmetrics(g.db, g.engagement.id, now_us()), content_type=CONTENT_TYPE)
