"""Call signalling: messages of a registration and a short call, as sent and as they arrived, and the call's media."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.fields import bounded

SipTransport = Literal["udp", "tcp", "tls"]
SIP_TRANSPORTS: dict[SipTransport, str] = {"udp": "UDP", "tcp": "TCP", "tls": "TLS"}
"""As they are written."""
SipWay = Literal["up", "down"]
MAX_MESSAGES = 80
MAX_ARRIVALS = 200


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
class SentPackets:
    """RTP of one end, as it left."""

    ssrc: int
    first_seq: int
    dscp: int
    sent_us: tuple[int, ...] = bounded(most=MAX_ARRIVALS, default=())
    """One after the other, on the sender's clock."""


@dataclass(frozen=True)
class ArrivedPackets:
    """RTP of the other end, in the order it came."""

    ssrc: int
    """0 where nothing came."""
    seq: tuple[int, ...] = bounded(most=MAX_ARRIVALS, default=())
    at_us: tuple[int, ...] = bounded(most=MAX_ARRIVALS, default=())
    """On the receiver's clock."""
    dscp: tuple[int, ...] = bounded(most=MAX_ARRIVALS, default=())
    """Empty where the system does not tell."""


@dataclass(frozen=True)
class SipCall:
    """Media of a call that signalling set up; what the far end has is None where it could not tell."""

    transport: SipTransport
    own_sent: SentPackets
    own_arrived: ArrivedPackets
    far_sent: Optional[SentPackets] = None
    far_arrived: Optional[ArrivedPackets] = None
    elsewhere: str = ""
    """Where the answer wanted media instead of at the far end; none was sent there."""


@dataclass(frozen=True)
class SignallingFacts:
    messages: tuple[SipMessage, ...] = bounded(most=MAX_MESSAGES, default=())
    port: int = 5060
    failure: Optional[str] = None
    """Why the far end did not take part."""
    calls: tuple[SipCall, ...] = ()
    tls_port: Optional[int] = None
    """None where the far end has no certificate, so that nothing was tried over TLS."""
    certificate: str = ""
    """SHA-256 of the far end's certificate, as it tells it by its key."""
    certificate_seen: str = ""
    """Of the one that answered; empty where none did."""


@dataclass(frozen=True)
class SipAccount:
    """A place to register at: a registrar of the customer's, and who registers there."""

    host: str = bounded(1, 253)
    user: str = bounded(1, 120)
    password: str = bounded(most=200, default="")
    port: int = bounded(1, 65535, default=5060)
    transport: SipTransport = "udp"
    domain: str = bounded(most=253, default="")
    """Of the address of record; empty: the host."""


NO_CONNECTION = "No connection: "
"""How a failure begins where the registrar was tried; others were before that."""


@dataclass(frozen=True)
class RegistrarFacts:
    """What a registrar answered. Only the probe's end of the messages is known."""

    host: str
    port: int
    transport: SipTransport
    user: str
    messages: tuple[SipMessage, ...] = bounded(most=MAX_MESSAGES, default=())
    """Those sent have no ``arrived``, those that came have no ``sent``."""
    failure: Optional[str] = None
    """Why nothing was said: no name, no connection."""
    trusted: Optional[bool] = None
    """Over TLS: whether the certificate is one the system trusts for that name."""
    offered: str = ""
    """Description of the session that the probe offered itself through the registrar."""
    came_back: str = ""
    """The same as it came back to the probe."""
