"""How a browser came to a far end, as both ends tell it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.fields import bounded
from tarnfell.wire.kinds.path import PathFacts

MOST_WORDS = 300
MOST_RELAYS = 3


@dataclass(frozen=True)
class FamilyTried:
    """Addresses of one family that the far end has, as the browser's connectivity checks (RFC 8445 §7) found them."""

    family: Literal["IPv4", "IPv6"]
    state: Literal["answered", "silent", "untried"]
    """Untried: the browser sent no check. It has no address of that family, or one of the other answered before."""


@dataclass(frozen=True)
class PageReach:
    """How a page came to the far end, as its browser tells it: the pair of candidates that was chosen (RFC 8445)."""

    own: str = bounded(most=16, default="")
    """Where it sends from: ``host``, ``srflx``, ``prflx`` or ``relay`` (RFC 8445 §5.1.1), or
    ``socket`` for a WebSocket."""
    transport: str = bounded(most=8, default="")
    relay: str = bounded(most=8, default="")
    """To a relay: ``udp``, ``tcp`` or ``tls``; empty without one."""
    network: str = bounded(most=32, default="")
    """The kind, in the browser's word; empty where it does not say."""
    address: str = bounded(most=64, default="")
    """Of the far end."""
    port: int = bounded(0, 65_535, default=0)
    families: tuple[FamilyTried, ...] = bounded(most=2, default=())
    """Empty where the browser does not tell."""


@dataclass(frozen=True)
class FarReach:
    """Where a browser's packets came from, as the far end saw it, and the way there."""

    address: str
    port: int
    path: Optional[PathFacts] = None
    no_path: str = ""
    """Why there is none."""


@dataclass(frozen=True)
class RelayTried:
    """One way to a relay (RFC 8656), tried by the page: whether it gave the browser an address."""

    by: Literal["udp", "tcp", "tls"]
    took_ms: Optional[float] = None
    """None where it gave none."""
    code: int = bounded(0, 999, default=0)
    """The error as the browser numbers it (W3C webrtc); 0 where it told none in time."""
    words: str = bounded(most=200, default="")


@dataclass(frozen=True)
class WebTried:
    """Small requests over HTTPS to the web server, one after another, where no UDP passed."""

    median_ms: float = bounded(0, 1e6)
    """Of those that were answered; 0 where none was."""
    most_ms: float = bounded(0, 1e6)
    answered: int = bounded(0, 100)
    asked: int = bounded(1, 100)


@dataclass(frozen=True)
class BrowserReach:
    """How a browser came to a far end, as the page told it and as the far end did; None of who told nothing."""

    relays: tuple[RelayTried, ...] = bounded(most=MOST_RELAYS, default=())
    page: Optional[PageReach] = None
    far: Optional[FarReach] = None
    web: Optional[WebTried] = None
