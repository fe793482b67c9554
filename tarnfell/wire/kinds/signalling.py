"""Call signalling: every message of a registration and a short call, as it was sent and as it arrived."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.fields import bounded

SipTransport = Literal["udp", "tcp"]
SipWay = Literal["up", "down"]
MAX_MESSAGES = 60


@dataclass(frozen=True)
class SipMessage:
    transport: SipTransport
    way: SipWay
    at_ms: float
    """Since signalling began, when the probe sent or got it; for one that never came, when it was waited for."""
    sent: str
    """Empty where the other end has not told what it sent."""
    arrived: str
    """Empty where it never arrived."""


@dataclass(frozen=True)
class SignallingFacts:
    messages: tuple[SipMessage, ...] = bounded(most=MAX_MESSAGES, default=())
    port: int = 5060
    failure: Optional[str] = None
    """Why the far end did not take part."""
