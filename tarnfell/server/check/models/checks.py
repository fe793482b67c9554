"""Checks of a site's network."""

from __future__ import annotations

from pydantic import Field

from tarnfell.core.check.sip_calls import SipCallRecord
from tarnfell.core.check.usual import UsualPort
from tarnfell.core.check.values import Finding, Limits, NotFault, Rung
from tarnfell.server.http.models.base import Model
from tarnfell.store.checks import MOST_OWN, MOST_SHARED
from tarnfell.store.jobs import State
from tarnfell.wire.kinds.check import CheckResult, Protocol
from tarnfell.wire.kinds.signalling import SipMessage, SipTransport


class AskCheck(Model):
    probe_id: int
    far_end_id: int


class ServiceForm(Model):
    name: str = Field(min_length=1, max_length=80)
    host: str = Field(min_length=1, max_length=253)
    port: int = Field(ge=1, le=65535)
    protocol: Protocol = "tcp"
    sha256: str = Field("", max_length=100)
    """Of the certificate that is to be there; empty: any that the probe's system trusts."""
    path: str = Field("/", pattern=r"^/[\x21-\x7e]*$", max_length=500)
    """Of HTTP: what is fetched."""


class LimitsForm(Model):
    """What counts as healthy at this site."""

    gateway_ms: float = Field(gt=0, le=1000)
    gateway_wireless_ms: float = Field(gt=0, le=1000)
    loss_pct: float = Field(gt=0, le=100)
    name_ms: float = Field(gt=0, le=10_000)
    slow_hop_ms: float = Field(gt=0, le=1000)
    binding_s: float = Field(ge=5, le=60)
    changed_pct: float = Field(gt=0, le=100)


class AccountForm(Model):
    """At the customer's own registrar. The password is kept and never told again."""

    host: str = Field(pattern=r"^[A-Za-z0-9.:_-]+$", max_length=253)
    user: str = Field(pattern=r"^[A-Za-z0-9.+_~*-]+$", max_length=120)
    password: str | None = Field(None, max_length=200)
    """None: the one that is kept."""
    has_password: bool = False
    """Told, not asked: whether one is kept."""
    port: int = Field(5060, ge=1, le=65535)
    transport: SipTransport = "udp"
    domain: str = Field("", pattern=r"^[A-Za-z0-9.:_-]*$", max_length=253)
    """Of the address of record; empty: the host."""


class WishForm(Model):
    """What is asked beside what the probe finds out for itself."""

    gateway: str = Field("", max_length=45)
    edge: str = Field("", max_length=45)
    outside: list[str] = Field(max_length=10)
    resolvers: list[str] = Field(max_length=10)
    names: list[str] = Field(max_length=50)
    services: list[ServiceForm] = Field(max_length=MOST_OWN)
    """Beside those of the engagement."""
    limits: LimitsForm
    account: AccountForm | None = None
    """None: no registrar of the customer's is asked."""


class ServicesForm(Model):
    """What every site of the engagement asks."""

    services: list[ServiceForm] = Field(max_length=MOST_SHARED)


class ServicesText(Model):
    """A list of services as TOML or CSV."""

    text: str = Field(max_length=1 << 19)


class CheckView(Model):
    id: int
    probe: str
    asked_us: int
    state: State
    words: str
    """Where it stands, or why it failed."""
    asked: int
    """Questions that were answered so far, of ``questions``."""
    questions: int
    stopped: bool
    """Somebody ended it before every question was asked."""
    rungs: list[Rung]
    causes: list[Finding]
    not_faults: list[NotFault]
    signalling: list[SipMessage]
    """The messages of its registration and call, in their order."""
    registrar: list[SipMessage]
    """Those with the customer's own registrar, of which only the probe's end is known."""
    sip_calls: list[SipCallRecord]
    changed: list[str]
    """What differs from the check before it by the same probe."""


class CheckEvidence(Model):
    """All that came back to a check, as the probe told it."""

    evidence: CheckResult


class EndChoice(Model):
    id: int
    name: str
    online: bool


class CheckPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    probes: list[EndChoice]
    far_ends: list[EndChoice]
    wish: WishForm
    services: list[ServiceForm]
    """Of the engagement: every site asks them."""
    usual_ports: list[UsualPort]
    usual_limits: Limits
    checks: list[CheckView]
    """Newest first."""
