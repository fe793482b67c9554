"""The way to an address as it was found: hop by hop, by packets of one flow."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

Method = Literal["udp", "icmp", "tcp"]


@dataclass(frozen=True)
class HopFacts:
    ttl: int
    address: Optional[str]
    others: tuple[str, ...]
    """Other addresses that answered at this hop."""
    sent: int
    rtt_ms: tuple[float, ...]
    dscp_seen: Optional[int] = None
    """The marking that packets arrived with there; None where the system does not show what an error quotes."""


@dataclass(frozen=True)
class PathFacts:
    """The way to an address, by packets of one flow marked ``dscp``."""

    address: str
    port: int
    dscp: int
    hops: tuple[HopFacts, ...]
    reached: bool
    """The address itself answered; the last hop is it."""
    sees_marking: bool
    method: Method = "udp"
