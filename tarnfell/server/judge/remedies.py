"""Remedies marked at a site: what was done and when, and whether evidence from before still counts."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from flask import Blueprint, g

from tarnfell.core.schedule import to_us
from tarnfell.server.access import require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.models.sites import RemedyForm, RemedyList, RemedyView
from tarnfell.store import remedies as remedy_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.sites import Site

blueprint = Blueprint("remedies", __name__)


@endpoint(blueprint, "GET", "/api/sites/<slug>/remedies", response=RemedyList)
def list_remedies(slug: str) -> RemedyList:
    """Newest first."""
    return _list(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/remedies", response=RemedyList)
def mark_remedy(slug: str, body: RemedyForm) -> RemedyList:
    """Mark that a remedy was applied. Nothing measured is lost; the mark can be removed."""
    site = require_site(slug)
    try:
        local = datetime.fromisoformat(body.at_local)
    except ValueError:
        raise Problem(422, "Give the day and time at the site, such as 2026-11-20T14:00.") from None
    if local.tzinfo is None:
        local = local.replace(tzinfo=ZoneInfo(site.time_zone))
    at_us = to_us(local)
    if at_us > now_us():
        raise Problem(422, "This time is still to come. Mark a remedy once it is applied.")
    with writing(g.db):
        remedy_store.add_remedy(g.db, site.id, at_us, body.words.strip(), body.set_aside, g.user.id)
    return _list(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/remedies/<int:remedy_id>", response=RemedyList)
def remove_remedy(slug: str, remedy_id: int) -> RemedyList:
    """Remove the mark; what it set aside counts again."""
    site = require_site(slug)
    with writing(g.db):
        if not remedy_store.remove_remedy(g.db, site.id, remedy_id):
            raise Problem(404, f"{site.name} has no remedy {remedy_id}.")
    return _list(site)


def _list(site: Site) -> RemedyList:
    return RemedyList(remedies=[RemedyView.model_validate(r) for r in remedy_store.remedies_of(g.db, site.id)])
