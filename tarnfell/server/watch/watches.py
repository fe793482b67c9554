"""Continuous samples of a probe's way to a far end: begun and ended."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import require_probe, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.models.places import PlacePage
from tarnfell.server.place.page import place_page
from tarnfell.server.watch.models.watches import WatchForm
from tarnfell.store import places as place_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import writing
from tarnfell.work.placing.rules import about_ends

blueprint = Blueprint("watches", __name__)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/probes/<int:probe_id>/watch", response=PlacePage)
def begin_watch(slug: str, probe_id: int, body: WatchForm) -> PlacePage:
    """Have a probe sample the way to a far end, without end; what it sampled before is kept."""
    site = require_site(slug)
    probe = require_probe(site, probe_id)
    reason = about_ends(g.db, site, probe, place_store.far_end_by_id(g.db, body.far_end_id))
    if reason:
        raise Problem(409, reason.words)
    with writing(g.db):
        watch_store.want(g.db, probe.id, body.far_end_id, body.interval_ms, body.dscp, g.user.id)
    return place_page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/probes/<int:probe_id>/watch", response=PlacePage)
def end_watch(slug: str, probe_id: int) -> PlacePage:
    """Take no more samples; those there are stay."""
    site = require_site(slug)
    probe = require_probe(site, probe_id)
    with writing(g.db):
        watch_store.end(g.db, probe.id)
    return place_page(site)
