"""Continuous samples of a probe's way to a far end: begun and ended."""

from __future__ import annotations

import ipaddress
from typing import get_args

from flask import Blueprint, g

from tarnfell.server.access import require_probe, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.models.places import PlacePage
from tarnfell.server.place.page import place_page
from tarnfell.server.watch.models.watches import BesideForm, WatchForm, WatchPlaceForm
from tarnfell.store import places as place_store
from tarnfell.store import routines as routine_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import writing
from tarnfell.store.routines import What
from tarnfell.wire.kinds.watch import EchoTarget
from tarnfell.work.placing.rules import about_ends
from tarnfell.work.watch.routines import SOONEST_S, WHAT_WORDS

blueprint = Blueprint("watches", __name__)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/probes/<int:probe_id>/watch", response=PlacePage)
def begin_watch(slug: str, probe_id: int, body: WatchForm) -> PlacePage:
    """Have a probe sample the way to a far end, without end; what it sampled before is kept."""
    site = require_site(slug)
    probe = require_probe(site, probe_id)
    reason = about_ends(g.db, site, probe, place_store.far_end_by_id(g.db, body.far_end_id))
    if reason:
        raise Problem(409, reason.words)
    echoes, wanted = tuple(_place(one) for one in body.echoes), _beside(body.beside)
    with writing(g.db):
        watch_store.want(
            g.db, probe.id, body.far_end_id, body.interval_ms, body.dscp, g.user.id, echoes, body.large_every
        )
        watch = watch_store.watch_of(g.db, probe.id)
        assert watch is not None
        routine_store.want(g.db, watch.id, wanted, g.user.id)
    return place_page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/probes/<int:probe_id>/watch", response=PlacePage)
def end_watch(slug: str, probe_id: int) -> PlacePage:
    """Take no more samples; those there are stay."""
    site = require_site(slug)
    probe = require_probe(site, probe_id)
    with writing(g.db):
        watch_store.end(g.db, probe.id)
    return place_page(site)


def _beside(form: BesideForm | None) -> dict[What, int]:
    """Raises Problem 422."""
    if form is None:
        return {}
    wanted: dict[What, int] = {what: every_s for what in get_args(What) if (every_s := getattr(form, what))}
    for what, every_s in wanted.items():
        if every_s < SOONEST_S[what]:
            words = WHAT_WORDS[what]
            raise Problem(422, f"{words[0].upper()}{words[1:]} may begin every {SOONEST_S[what]} seconds at the most.")
    if "fill" in wanted and not form.consent:
        raise Problem(422, "A line is filled only where somebody at the site has agreed to it.")
    return wanted


def _place(form: WatchPlaceForm) -> EchoTarget:
    address = form.address.strip()
    if not address and form.role == "gateway":
        return EchoTarget("gateway")
    try:
        return EchoTarget(form.role, str(ipaddress.ip_address(address)))
    except ValueError:
        raise Problem(
            422, f"“{address}” is no address. Name places on the way by their IPv4 or IPv6 address."
        ) from None
