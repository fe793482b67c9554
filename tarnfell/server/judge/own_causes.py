"""Causes that people add to a site's own."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.models.own_causes import OwnCauseForm, OwnCauseList
from tarnfell.store import own_causes as own_cause_store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site

blueprint = Blueprint("own_causes", __name__)


@endpoint(blueprint, "GET", "/api/sites/<slug>/own-causes", response=OwnCauseList)
def list_own_causes(slug: str) -> OwnCauseList:
    """What people know of a site that the evidence cannot."""
    return _list(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/own-causes", response=OwnCauseList)
def add_own_cause(slug: str, body: OwnCauseForm) -> OwnCauseList:
    """Add a cause. It stands in the report as the consultant's own; verdict and score stay the evidence's."""
    site = require_site(slug)
    with writing(g.db):
        own_cause_store.add(g.db, site.id, body.title, body.says, body.remedy, body.who, g.user.id)
    return _list(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/own-causes/<int:number>", response=OwnCauseList)
def change_own_cause(slug: str, number: int, body: OwnCauseForm) -> OwnCauseList:
    """Change a cause that was added. Reports that were issued with it keep them."""
    site = require_site(slug)
    with writing(g.db):
        if not own_cause_store.change(g.db, site.id, number, body.title, body.says, body.remedy, body.who):
            raise Problem(404, f"{site.name} has no cause {number} of its own.")
    return _list(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/own-causes/<int:number>", response=OwnCauseList)
def remove_own_cause(slug: str, number: int) -> OwnCauseList:
    """Remove a cause that was added. Reports that were issued with it keep it."""
    site = require_site(slug)
    with writing(g.db):
        if not own_cause_store.remove(g.db, site.id, number):
            raise Problem(404, f"{site.name} has no cause {number} of its own.")
    return _list(site)


def _list(site: Site) -> OwnCauseList:
    return OwnCauseList(causes=own_cause_store.own_causes_of(g.db, site.id))
