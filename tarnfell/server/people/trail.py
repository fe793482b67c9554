"""Who did what in an engagement."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime

from flask import Blueprint, Response, g

from tarnfell.exchange.cells import guarded
from tarnfell.server.access import require_engagement
from tarnfell.server.http.api import endpoint
from tarnfell.server.people.models.people import DeedView, TrailPage, TrailQuery
from tarnfell.store import deeds

blueprint = Blueprint("trail", __name__)


@endpoint(blueprint, "GET", "/api/engagements/<slug>/trail", needs="consultant", response=TrailPage)
def show_trail(slug: str, query: TrailQuery) -> TrailPage:
    """What people have changed in an engagement."""
    engagement = require_engagement(slug)
    found = deeds.deeds_of(g.db, engagement.id, query.limit, query.offset)
    return TrailPage(
        total=deeds.count_of(g.db, engagement.id),
        deeds=[DeedView(at_us=d.at_us, name=d.name, email=d.email, site=d.site, says=d.says) for d in found],
    )


@endpoint(blueprint, "GET", "/api/engagements/<slug>/trail.csv", needs="consultant", produces="text/csv")
def export_trail(slug: str) -> Response:
    """All of it, with the address that each was asked of."""
    engagement = require_engagement(slug)
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(["at", "name", "email", "site", "what", "address"])
    for one in deeds.deeds_of(g.db, engagement.id, -1):
        at = datetime.fromtimestamp(one.at_us / 1e6, UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
        table.writerow([at, *map(guarded, (one.name, one.email, one.site, one.says, one.address))])
    headers = {"Content-Disposition": f'attachment; filename="{engagement.slug}-trail.csv"'}
    return Response(text.getvalue(), mimetype="text/csv", headers=headers)
