"""Rules for alerts: tried on the past week, kept, changed and removed."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.alerts.rules import Rule, RuleError, checked, sentence
from tarnfell.server.access import require_engagement, require_rule
from tarnfell.server.alerts.models.alerts import AlertsPage, FiredView, RuleForm, TrialView, TrialWeek, TryForm
from tarnfell.server.alerts.page import alerts_page
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.report.documents import waiting_view
from tarnfell.store import alerts as alert_store
from tarnfell.store import sites as site_store
from tarnfell.store.alerts import RuleSpec
from tarnfell.store.db import now_us, writing
from tarnfell.store.engagements import Engagement
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.work.alerts.looking import FIRST_LOOK_US
from tarnfell.work.alerts.trial import TRIALS, trial_of

blueprint = Blueprint("alert_rules", __name__)

MOST_RULES = 50


@endpoint(blueprint, "GET", "/api/engagements/<slug>/alerts", response=AlertsPage)
def show_alerts(slug: str) -> AlertsPage:
    """The alerts of an engagement, the rules they come from, and whom they are sent to."""
    return alerts_page(require_engagement(slug))


@endpoint(blueprint, "GET", "/api/engagements/<slug>/alerts/try", response=TrialView)
def try_rule(slug: str, query: TryForm) -> TrialView:
    """How often a rule would have fired in the past week; of many sites as soon as the clerk has tried it."""
    engagement = require_engagement(slug)
    rule = _rule(query)
    _sites(engagement, query.site_slug)
    asked = trial_of(g.db, engagement.id, rule, query.site_slug, now_us())
    found = TRIALS.lately(g.db, asked, g.user.id)
    if isinstance(found, Task):
        return TrialView(sentence=sentence(rule), waiting=waiting_view(found), week=None)
    fired = [FiredView.model_validate(one) for one in found.fired]
    week = TrialWeek(from_us=found.from_us, until_us=found.until_us, count=found.count, fired=fired, note=found.note)
    return TrialView(sentence=found.sentence, waiting=None, week=week)


@endpoint(blueprint, "POST", "/api/engagements/<slug>/alerts/rules", response=AlertsPage)
def add_rule(slug: str, body: RuleForm) -> AlertsPage:
    """Keep a rule; from here on what is measured is held against it."""
    engagement = require_engagement(slug)
    if len(alert_store.rules_at_work(g.db, engagement.id)) >= MOST_RULES:
        raise Problem(409, f"An engagement has {MOST_RULES} rules at the most. Remove one first.")
    _keep(engagement, body)
    return alerts_page(engagement)


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/alerts/rules/<int:rule_id>", response=AlertsPage)
def change_rule(slug: str, rule_id: int, body: RuleForm) -> AlertsPage:
    """Put another rule in its place; alerts that it has open end."""
    engagement = require_engagement(slug)
    _keep(engagement, body, in_place_of=require_rule(engagement, rule_id).id)
    return alerts_page(engagement)


@endpoint(blueprint, "DELETE", "/api/engagements/<slug>/alerts/rules/<int:rule_id>", response=AlertsPage)
def remove_rule(slug: str, rule_id: int) -> AlertsPage:
    """Have it at work no more; its alerts stay on record."""
    engagement = require_engagement(slug)
    rule = require_rule(engagement, rule_id)
    with writing(g.db):
        alert_store.end_rule(g.db, rule.id)
    return alerts_page(engagement)


def _keep(engagement: Engagement, body: RuleForm, in_place_of: int | None = None) -> None:
    if (body.quiet_from is None) != (body.quiet_until is None):
        raise Problem(422, "Quiet hours need a beginning and an end.")
    sites = _sites(engagement, body.site_slug)
    spec = RuleSpec(
        rule=_rule(body),
        site_id=sites[0].id if body.site_slug else None,
        mail=body.mail,
        webhook=body.webhook,
        collect=body.collect,
        quiet_from=body.quiet_from,
        quiet_until=body.quiet_until,
    )
    with writing(g.db):
        if in_place_of is not None:
            alert_store.end_rule(g.db, in_place_of)
        alert_store.add_rule(g.db, engagement.id, spec, g.user.id)
        alert_store.look_again(g.db, [site.id for site in sites], now_us() - FIRST_LOOK_US)


def _rule(form: TryForm) -> Rule:
    try:
        return checked(Rule(form.kind, form.role, form.limit, form.minutes, form.count, form.of))
    except RuleError as error:
        raise Problem(422, str(error)) from None


def _sites(engagement: Engagement, slug: str | None) -> list[Site]:
    sites = site_store.sites_of(g.db, engagement.id)
    if slug is None:
        return sites
    found = [site for site in sites if site.slug == slug]
    if not found:
        raise Problem(404, f"{engagement.name} has no site “{slug}”.")
    return found
