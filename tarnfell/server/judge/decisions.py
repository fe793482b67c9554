"""What the consultant decides of a site's causes."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.verdict.decisions import Decision
from tarnfell.server.access import require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.models.sites import DecisionForm, DecisionView
from tarnfell.store import decisions as decision_store
from tarnfell.store.db import writing
from tarnfell.work.evidence.evaluations import evaluate

blueprint = Blueprint("decisions", __name__)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/decision", response=DecisionView)
def decide(slug: str, body: DecisionForm) -> DecisionView:
    """Dismiss a cause with a reason, weigh it, word it anew, put a note to it. The verdict stays the evidence's own."""
    site = require_site(slug)
    if body.dismissed and not body.words:
        raise Problem(422, "Say why the cause is dismissed: the report says it too.")
    evaluated = evaluate(g.db, site)
    known = [*evaluated.evaluation.causes, *(one.cause for one in evaluated.dismissed)]
    cause = next((c for c in known if (c.key, c.leg, c.direction) == (body.key, body.leg, body.direction)), None)
    if cause is None:
        raise Problem(409, "The evidence does not tell of this cause any more. Reload the page.")
    with writing(g.db):
        decision_store.decide(g.db, site.id, Decision(**body.model_dump()), g.user.id)
    return DecisionView(title=body.title or cause.title, dismissed=body.dismissed, words=body.words)
