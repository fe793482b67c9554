"""The relay that browsers of an engagement's sites may go through where UDP does not pass."""

from __future__ import annotations

import re
import time

from flask import Blueprint, g

from tarnfell.server.access import require_engagement
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.models.relays import RelayForm, RelayPage, RelayView, TestRelay
from tarnfell.store import relays as relay_store
from tarnfell.store.db import writing
from tarnfell.store.relays import Relay
from tarnfell.work.placing.relay_ways import ways_through

blueprint = Blueprint("relays", __name__)

_HOST = re.compile(r"[A-Za-z0-9]([A-Za-z0-9.:_-]*[A-Za-z0-9])?")


@endpoint(blueprint, "GET", "/api/engagements/<slug>/relay", response=RelayPage)
def show_relay(slug: str) -> RelayPage:
    """The relay for tests from browsers, without its secret."""
    return _page(require_engagement(slug).id)


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/relay", response=RelayPage, needs="consultant")
def change_relay(slug: str, body: RelayForm) -> RelayPage:
    """Change the relay for tests from browsers."""
    engagement = require_engagement(slug)
    if not _HOST.fullmatch(body.host):
        raise Problem(422, "The relay’s host is a name or an address, such as relay.example.net.")
    kept = relay_store.relay_of(g.db, engagement.id)
    # A secret that the relay shares must never become a password, which every browser is told.
    alike = kept is not None and bool(kept.user) == bool(body.user)
    secret = body.secret or (kept.secret if kept and alike else "")
    if not secret:
        raise Problem(422, "Give the password of that user, or without a user the secret that the relay shares.")
    relay = Relay(body.host, body.port, body.tls_port, body.user, secret)
    with writing(g.db):
        relay_store.keep_relay(g.db, engagement.id, relay)
    return _page(engagement.id)


@endpoint(blueprint, "DELETE", "/api/engagements/<slug>/relay", response=RelayPage, needs="consultant")
def remove_relay(slug: str) -> RelayPage:
    """Remove the relay for tests from browsers."""
    engagement = require_engagement(slug)
    with writing(g.db):
        relay_store.keep_relay(g.db, engagement.id, None)
    return _page(engagement.id)


def relay_for_test(engagement_id: int) -> TestRelay | None:
    """What a page behind a good link is told: a relay asks every browser for a name and a password."""
    relay = relay_store.relay_of(g.db, engagement_id)
    if relay is None:
        return None
    ways = ways_through(relay, time.time())
    return TestRelay(udp=ways.udp, tcp=ways.tcp, tls=ways.tls, user=ways.user, password=ways.password)


def _page(engagement_id: int) -> RelayPage:
    relay = relay_store.relay_of(g.db, engagement_id)
    if relay is None:
        return RelayPage(relay=None)
    return RelayPage(relay=RelayView(host=relay.host, port=relay.port, tls_port=relay.tls_port, user=relay.user))
