"""Checks of a site's network."""

from __future__ import annotations

from pydantic import Field

from tarnfell.core.check.values import Finding, NotFault, Rung
from tarnfell.server.http.models.base import Model
from tarnfell.store.jobs import State
from tarnfell.wire.kinds.check import Protocol
from tarnfell.wire.kinds.signalling import SipMessage


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


class WishForm(Model):
    """What is asked beside what the probe finds out for itself."""

    gateway: str = Field("", max_length=45)
    edge: str = Field("", max_length=45)
    outside: list[str] = Field(max_length=10)
    resolvers: list[str] = Field(max_length=10)
    names: list[str] = Field(max_length=50)
    services: list[ServiceForm] = Field(max_length=500)


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
    rungs: list[Rung]
    causes: list[Finding]
    not_faults: list[NotFault]
    signalling: list[SipMessage]
    """The messages of its registration and call, in their order."""
    changed: list[str]
    """What differs from the check before it by the same probe."""


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
    checks: list[CheckView]
    """Newest first."""
