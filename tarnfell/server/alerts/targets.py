"""Whom alerts are sent to, and the mail server they go by."""

from __future__ import annotations

import re

from flask import Blueprint, g

from tarnfell.server.access import require_engagement
from tarnfell.server.alerts.models.alerts import (
    AlertsPage,
    AlertTargetsForm,
    MailServerForm,
    MetricsToken,
    TrialAsked,
)
from tarnfell.server.alerts.page import alerts_page
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.store import outbox
from tarnfell.store import targets as target_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.targets import MailServer, Targets
from tarnfell.work.outbox import webhook

blueprint = Blueprint("alert_targets", __name__)

_ADDRESS = re.compile(r"[!-?A-~]+@[A-Za-z0-9]([A-Za-z0-9.-]*[A-Za-z0-9])?")
"""No address is proved by its form; this one keeps lists, names and control characters out."""


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/alerts/targets", needs="consultant", response=AlertsPage)
def change_targets(slug: str, body: AlertTargetsForm) -> AlertsPage:
    """Say whom alerts are sent to."""
    engagement = require_engagement(slug)
    addresses = list(dict.fromkeys(filter(None, (one.strip() for one in body.addresses))))
    for address in addresses:
        _check_address(address)
    trouble = webhook.about(body.webhook_url) if body.webhook_url else None
    if trouble:
        raise Problem(422, trouble)
    before = target_store.targets_of(g.db, engagement.id)
    # Another receiver gets another secret: the one before might use it.
    secret = before.webhook_secret if body.webhook_url == before.webhook_url else ""
    secret = (secret or target_store.new_secret()) if body.webhook_url else ""
    with writing(g.db):
        target_store.keep_targets(g.db, engagement.id, Targets(tuple(addresses), body.webhook_url, secret))
    return alerts_page(engagement)


@endpoint(blueprint, "POST", "/api/engagements/<slug>/alerts/trial", needs="consultant", response=AlertsPage)
def send_trial(slug: str, body: TrialAsked) -> AlertsPage:
    """Send a message that says no more than that it arrived."""
    engagement = require_engagement(slug)
    to = target_store.targets_of(g.db, engagement.id)
    if not (to.addresses if body.channel == "mail" else to.webhook_url):
        raise Problem(409, "Nobody is named to send it to. Save an address first.")
    if body.channel == "mail" and target_store.mail_server(g.db) is None:
        raise Problem(409, "No mail server is set for this installation. Set it first.")
    with writing(g.db):
        outbox.forget_trials(g.db, engagement.id, body.channel)
        outbox.add(g.db, engagement.id, None, "trial", body.channel, now_us())
    return alerts_page(engagement)


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/alerts/mail-server", needs="consultant", response=AlertsPage)
def change_mail_server(slug: str, body: MailServerForm) -> AlertsPage:
    """Set the mail server of this installation; all engagements send by it."""
    engagement = require_engagement(slug)
    with writing(g.db):
        before = target_store.mail_server(g.db)
        target_store.keep_mail_server(g.db, _server(body, before) if body.host else None)
    return alerts_page(engagement)


def _server(body: MailServerForm, before: MailServer | None) -> MailServer:
    _check_address(body.sender)
    if not re.fullmatch(r"[A-Za-z0-9.:_-]+", body.host):
        raise Problem(422, f"“{body.host}” is no name or address of a mail server.")
    password = body.password
    if password is None:
        # A password goes to the server that it was given for and to no other.
        same = before is not None and (before.host, before.port) == (body.host, body.port)
        password = before.password if before is not None and same else ""
    return MailServer(body.host, body.port, body.security, body.user_name, password, body.sender)


def _check_address(address: str) -> None:
    if len(address) > 254 or not _ADDRESS.fullmatch(address):
        raise Problem(422, f"“{address}” is no email address.")


@endpoint(blueprint, "POST", "/api/engagements/<slug>/alerts/metrics-token", needs="consultant", response=MetricsToken)
def make_metrics_token(slug: str) -> MetricsToken:
    """A token that opens the engagement's figures to a monitoring program; the one before opens nothing any more."""
    engagement = require_engagement(slug)
    with writing(g.db):
        return MetricsToken(token=target_store.new_metrics_token(g.db, engagement.id))


@endpoint(blueprint, "DELETE", "/api/engagements/<slug>/alerts/metrics-token", needs="consultant", response=AlertsPage)
def drop_metrics_token(slug: str) -> AlertsPage:
    """Close the engagement's figures to monitoring programs."""
    engagement = require_engagement(slug)
    with writing(g.db):
        target_store.drop_metrics_token(g.db, engagement.id)
    return alerts_page(engagement)
