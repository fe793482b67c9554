"""A run as a capture that any packet viewer opens: asked for, and made by the clerk."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import require_run
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.words import expected_video_rate
from tarnfell.server.report.documents import document_view
from tarnfell.server.report.models.documents import DocumentView
from tarnfell.store.db import folder_of, writing
from tarnfell.work.issuing.documents import ask_for_capture

blueprint = Blueprint("run_capture", __name__)

MAX_EXPORTED = 2_000_000


@endpoint(blueprint, "POST", "/api/runs/<int:run_id>/capture", response=DocumentView)
def ask_for_run_capture(run_id: int) -> DocumentView:
    """Have a run as it arrived at both ends made into a capture that any packet viewer opens."""
    run = require_run(run_id)
    total = 2 * (run.calls * int(run.seconds * 1000 / run.ptime_ms) + round(run.seconds * expected_video_rate(run)))
    if total > MAX_EXPORTED:
        raise Problem(409, f"This run holds {total} packets, more than one capture takes. Export its calls one by one.")
    with writing(g.db):
        return document_view(ask_for_capture(g.db, folder_of(g.db), run, g.user.id))
