"""Rules for alerts, the alerts themselves, and whom they are sent to."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.alerts.rules import Kind
from tarnfell.core.legs import Role
from tarnfell.server.http.models.base import Model
from tarnfell.server.report.models.documents import Waiting

MAX_ADDRESSES = 20


class TryForm(Model):
    """A rule; numbers that its kind has no use for are 0."""

    kind: Kind
    role: Role | None = None
    limit: float = 0.0
    minutes: int = Field(0, ge=0)
    count: int = Field(0, ge=0)
    of: int = Field(0, ge=0)
    site_slug: str | None = None
    """Of the only site it is about; null for all of the engagement."""


class RuleForm(TryForm):
    mail: bool = False
    webhook: bool = False
    collect: bool = False
    """Have the probe check its network at that moment."""
    quiet_from: int | None = Field(None, ge=0, le=1439)
    """Minutes since midnight at the site, from which to ``quiet_until`` nothing is sent."""
    quiet_until: int | None = Field(None, ge=0, le=1439)


class SpellView(Model):
    from_us: int
    until_us: int | None


class RuleView(RuleForm):
    id: int
    sentence: str
    site_name: str | None
    open: int
    """Alerts that are open."""
    week: list[SpellView]
    """Its alerts of the past seven days."""


class DeliveryView(Model):
    what: Literal["begun", "ended", "trial"]
    channel: Literal["mail", "webhook"]
    state: Literal["waiting", "sent", "failed"]
    tries: int
    next_us: int
    ended_us: int | None
    failure: str | None


class AlertView(Model):
    id: int
    rule: str
    site_slug: str
    site_name: str
    time_zone: str
    began_us: int
    ended_us: int | None
    says: str
    deliveries: list[DeliveryView]


class AlertTargetsForm(Model):
    addresses: list[str] = Field(max_length=MAX_ADDRESSES)
    webhook_url: str = Field("", max_length=2000)


class AlertTargetsView(Model):
    addresses: list[str]
    webhook_url: str
    webhook_secret: str
    """Signs what is sent there; made here."""


class MailServerForm(Model):
    host: str = Field(max_length=253)
    """Empty: mail is sent no more."""
    port: int = Field(587, ge=1, le=65535)
    security: Literal["none", "starttls", "tls"] = "starttls"
    user_name: str = Field("", max_length=200)
    password: str | None = Field(None, max_length=500)
    """Null leaves the one that is kept."""
    sender: str = Field("", max_length=254)


class MailServerView(Model):
    host: str
    port: int
    security: Literal["none", "starttls", "tls"]
    user_name: str
    has_password: bool
    sender: str


class AlertSite(Model):
    slug: str
    name: str


class AlertsPage(Model):
    engagement_name: str
    may_change: bool
    """Whom alerts are sent to, and by what; only then is the webhook's secret told."""
    sites: list[AlertSite]
    rules: list[RuleView]
    week_from_us: int
    week_until_us: int
    alerts: list[AlertView]
    """Open ones first, then the newest."""
    targets: AlertTargetsView
    trials: list[DeliveryView]
    mail_server: MailServerView | None
    metrics_path: str
    metrics_made_us: int | None
    """When the token was made that opens it; null for none."""


class FiredView(Model):
    site_name: str
    time_zone: str
    from_us: int
    until_us: int | None
    says: str


class TrialWeek(Model):
    """What a rule would have told in the past week."""

    from_us: int
    until_us: int
    count: int
    fired: list[FiredView]
    note: str


class TrialView(Model):
    sentence: str
    waiting: Waiting | None
    """Null once it has been tried."""
    week: TrialWeek | None
    """Null until then."""


class TrialAsked(Model):
    channel: Literal["mail", "webhook"]


class MetricsToken(Model):
    token: str
    """Shown this once."""
