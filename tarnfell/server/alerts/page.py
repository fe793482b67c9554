"""The alerts of an engagement as one page."""

from __future__ import annotations

from flask import g

from tarnfell.core.alerts.rules import sentence
from tarnfell.server.access import is_consultant
from tarnfell.server.alerts.models.alerts import (
    AlertSite,
    AlertsPage,
    AlertTargetsView,
    AlertView,
    DeliveryView,
    MailServerView,
    RuleView,
    SpellView,
)
from tarnfell.store import alerts as alert_store
from tarnfell.store import outbox
from tarnfell.store import sites as site_store
from tarnfell.store import targets as target_store
from tarnfell.store.alerts import Alert, KeptRule
from tarnfell.store.db import now_us
from tarnfell.store.engagements import Engagement
from tarnfell.store.outbox import Message
from tarnfell.store.sites import Site
from tarnfell.store.targets import MailServer
from tarnfell.work.alerts.trial import WEEK_US

SHOWN = 60


def alerts_page(engagement: Engagement) -> AlertsPage:
    at_us = now_us()
    sites = {site.id: site for site in site_store.sites_of(g.db, engagement.id)}
    alerts = alert_store.newest_alerts(g.db, engagement.id, SHOWN)
    to = target_store.targets_of(g.db, engagement.id)
    server = target_store.mail_server(g.db)
    may_change = is_consultant(engagement.id)
    return AlertsPage(
        engagement_name=engagement.name,
        may_change=may_change,
        sites=[AlertSite(slug=site.slug, name=site.name) for site in sites.values()],
        rules=[_rule(rule, sites, at_us) for rule in alert_store.rules_at_work(g.db, engagement.id)],
        week_from_us=at_us - WEEK_US,
        week_until_us=at_us,
        alerts=[alert_view(one) for one in alerts],
        targets=AlertTargetsView(
            addresses=list(to.addresses),
            webhook_url=to.webhook_url,
            webhook_secret=to.webhook_secret if may_change else "",
        ),
        trials=[_delivery(one) for one in outbox.newest_trials(g.db, engagement.id)],
        mail_server=_server(server) if server else None,
        metrics_path=f"/api/engagements/{engagement.slug}/metrics",
        metrics_made_us=target_store.metrics_token_made_us(g.db, engagement.id),
    )


def _server(server: MailServer) -> MailServerView:
    """All but the password, which nobody is shown."""
    return MailServerView(
        host=server.host,
        port=server.port,
        security=server.security,
        user_name=server.user_name,
        has_password=bool(server.password),
        sender=server.sender,
    )


def _rule(kept: KeptRule, sites: dict[int, Site], at_us: int) -> RuleView:
    spec, rule = kept.spec, kept.spec.rule
    site = sites.get(spec.site_id) if spec.site_id is not None else None
    week = alert_store.alerts_of_rule(g.db, kept.id, at_us - WEEK_US)
    return RuleView(
        **vars(rule),
        site_slug=site.slug if site else None,
        mail=spec.mail,
        webhook=spec.webhook,
        collect=spec.collect,
        quiet_from=spec.quiet_from,
        quiet_until=spec.quiet_until,
        id=kept.id,
        sentence=sentence(rule),
        site_name=site.name if site else None,
        open=sum(one.ended_us is None for one in week),
        week=[SpellView(from_us=one.began_us, until_us=one.ended_us) for one in week],
    )


def alert_view(alert: Alert) -> AlertView:
    site = site_store.site_by_id(g.db, alert.site_id)
    rule = alert_store.rule_by_id(g.db, alert.rule_id)
    return AlertView(
        id=alert.id,
        rule=sentence(rule.spec.rule) if rule else "",
        site_slug=site.slug,
        site_name=site.name,
        time_zone=site.time_zone,
        began_us=alert.began_us,
        ended_us=alert.ended_us,
        says=alert.says,
        deliveries=[_delivery(one) for one in outbox.of_alert(g.db, alert.id)],
    )


def _delivery(one: Message) -> DeliveryView:
    return DeliveryView(
        what=one.what,
        channel=one.channel,
        state=one.state,
        tries=one.tries,
        next_us=one.next_us,
        ended_us=one.ended_us,
        failure=one.failure,
    )
