"""A check: cheap questions about a site's network, and what came back to each. Facts only; the server judges them.

The probe asks what it is given and adds what it finds out for itself: its gateway, its name servers, the edge.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.fields import bounded
from tarnfell.wire.kinds.path import PathFacts
from tarnfell.wire.kinds.signalling import RegistrarFacts, SignallingFacts, SipAccount
from tarnfell.wire.kinds.translation import TranslationFacts

Protocol = Literal["tcp", "tls", "http", "https", "stun", "dns", "sip"]
ServiceState = Literal["open", "refused", "filtered", "stalled", "other", "nameless"]
"""Filtered: silence. Stalled: it opens, and what should follow does not come. Other: not what was asked for answers.
Nameless: its name has no address, so that it was not asked."""
MAX_SERVICES = 500
Role = Literal["gateway", "edge", "outside", "far-end"]


@dataclass(frozen=True)
class ServiceAsked:
    name: str = bounded(1, 80)
    host: str = bounded(1, 253)
    port: int = bounded(1, 65535)
    protocol: Protocol = "tcp"
    sha256: str = bounded(most=100, default="")
    """Of the certificate that is to be there, as hex; empty: any that the system trusts for this name."""
    path: str = bounded(most=500, default="/")
    """Of HTTP: what is fetched."""


@dataclass(frozen=True)
class CheckArguments:
    far_host: str
    far_port: int = bounded(1, 65535)
    far_key: str = bounded(most=200, default="")
    """Empty: the far end is reached for, but no call is placed with it."""
    media_port: int = bounded(1, 65535, default=20000)
    """Where media goes at the far end: the path is looked for towards it."""
    gateway: str = ""
    """Empty: the way out that the system has."""
    edge: str = ""
    """Empty: the first hop beyond the gateway."""
    outside: tuple[str, ...] = ()
    """Addresses elsewhere on the Internet."""
    resolvers: tuple[str, ...] = ()
    """Empty: the system's own."""
    names: tuple[str, ...] = ()
    services: tuple[ServiceAsked, ...] = bounded(most=MAX_SERVICES, default=())
    account: Optional[SipAccount] = None
    """At the customer's own registrar; None to ask none."""


@dataclass(frozen=True)
class StackFacts:
    """Where the probe stands."""

    addresses: tuple[str, ...]
    gateway: Optional[str]
    interface: Optional[str]
    medium: Optional[str]
    mtu: Optional[int]
    resolvers: tuple[str, ...]
    wifi_signal_dbm: Optional[int] = None
    """How well the access point is heard, which is as much as systems tell of how far away it is."""


@dataclass(frozen=True)
class EchoFacts:
    """ICMP echoes of one size to one address."""

    role: Role
    address: str
    packet_bytes: int
    """On the line, IP's header in it."""
    sent: int
    answered: int
    rtt_ms: tuple[float, ...]
    """Of those that answered, in the order of asking."""
    ttl: Optional[int] = None
    refused_by: Optional[str] = None
    """Who said that the address cannot be reached."""
    too_large: bool = False
    """A link on the way said that it takes no packet of this size."""
    next_mtu: Optional[int] = None
    """What that link takes."""


@dataclass(frozen=True)
class NameFacts:
    """One name asked of one name server."""

    resolver: str
    name: str
    transport: Literal["udp", "tcp"]
    took_ms: Optional[float]
    """None where nothing came back."""
    rcode: Optional[int]
    addresses: tuple[str, ...] = ()
    failure: Optional[str] = None


@dataclass(frozen=True)
class HttpTiming:
    """One answer over HTTP, each step by itself."""

    name_ms: float
    """To look the name up; 0 for an address."""
    connect_ms: float
    tls_ms: float
    """0 without TLS."""
    first_byte_ms: float
    """From the request to the first byte of the answer."""
    last_byte_ms: float
    """From the first byte to the last."""
    status: int
    body_bytes: int
    whole: bool
    """Whether the body was read to its end."""


Dependence = Literal["none", "address", "address-and-port"]
"""On what of the other end a mapping or a filter depends (RFC 4787 §4.1 and §5)."""


@dataclass(frozen=True)
class Behaviour:
    """Of a translator on the way, as a STUN server with two addresses sees it (RFC 5780)."""

    mapping: Optional[Dependence]
    """None where the second address did not answer."""
    filtering: Dependence
    """None of it: anybody's packets are let in to a socket that has sent."""


@dataclass(frozen=True)
class ServiceFacts:
    asked: ServiceAsked
    state: ServiceState
    took_ms: Optional[float] = None
    """From asking to the first answer; of TLS, to the end of the handshake."""
    says: str = ""
    """What came back, or what is wrong with it, in words."""
    trusted: Optional[bool] = None
    """Of TLS: whether the certificate is the one expected."""
    sha256: str = ""
    http: Optional[HttpTiming] = None
    behaviour: Optional[Behaviour] = None
    """Of STUN, where the server has two addresses."""


@dataclass(frozen=True)
class MarkCount:
    dscp: int
    packets: int


@dataclass(frozen=True)
class MediaFacts:
    """A call of a second, marked ``dscp``."""

    dscp: int
    failure: Optional[str] = None
    """Why there was none."""
    code: Optional[str] = None
    """Of wire/failures.py."""
    bound: bool = False
    """The media port answered before the call."""
    sent_up: int = 0
    sent_down: int = 0
    received_up: int = 0
    received_down: int = 0
    marks_up: tuple[MarkCount, ...] = ()
    """How packets arrived at the far end, as far as its system tells."""
    marks_down: tuple[MarkCount, ...] = ()
    rtt_ms: Optional[float] = None
    """Least round trip of its time stamps."""


@dataclass(frozen=True)
class ReachFacts:
    """The far end's control port."""

    took_ms: Optional[float]
    failure: Optional[str] = None
    key_fits: Optional[bool] = None
    """None where it did not come to that."""


@dataclass(frozen=True)
class PortsFacts:
    """Ports of the far end's media range, asked by STUN."""

    asked: tuple[int, ...]
    answered: tuple[int, ...]
    heard: tuple[int, ...]
    """On which the far end says that it was asked."""


Question = Literal[
    "path",
    "echoes",
    "large-echoes",
    "names",
    "services",
    "far-end",
    "ports",
    "way-back",
    "signalling",
    "registrar",
    "translation",
]


@dataclass(frozen=True)
class Took:
    question: Question
    ms: float


@dataclass(frozen=True)
class CheckResult:
    """All that was found out. A question that could not be asked is left empty and named under ``cannot``."""

    far_address: str
    stack: StackFacts
    edge: Optional[str] = None
    echoes: tuple[EchoFacts, ...] = ()
    large_echoes: tuple[EchoFacts, ...] = ()
    path: Optional[PathFacts] = None
    names: tuple[NameFacts, ...] = ()
    services: tuple[ServiceFacts, ...] = ()
    reach: Optional[ReachFacts] = None
    media: tuple[MediaFacts, ...] = ()
    cannot: tuple[str, ...] = ()
    """What this system did not let the probe ask, in words."""
    took: tuple[Took, ...] = ()
    translation: Optional[TranslationFacts] = None
    """None where it was not asked, or could not be without the far end's key."""
    signalling: Optional[SignallingFacts] = None
    """As translation."""
    other_paths: tuple[PathFacts, ...] = ()
    """The same way by other means: ICMP, and TCP to the control port."""
    way_back: Optional[PathFacts] = None
    """From the far end to the probe; None where the far end could not look for it."""
    ports: Optional[PortsFacts] = None
    registrar: Optional[RegistrarFacts] = None
    """None where no account was given."""
