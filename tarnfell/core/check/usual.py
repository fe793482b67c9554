"""What calls and meetings commonly need of a service, by protocol and port as the standards assign them (IANA)."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.wire.kinds.check import Protocol


@dataclass(frozen=True)
class UsualPort:
    name: str
    port: int
    protocol: Protocol


USUAL_PORTS = (
    UsualPort("Signalling, TLS", 5061, "tls"),
    UsualPort("Signalling, TCP", 5060, "tcp"),
    UsualPort("Signalling, UDP", 5060, "sip"),
    UsualPort("Meetings and settings", 443, "https"),
    UsualPort("Certificate lists", 80, "http"),
    UsualPort("STUN", 3478, "stun"),
    UsualPort("STUN and TURN, TLS", 5349, "tls"),
    UsualPort("Messages", 5222, "tcp"),
    UsualPort("Directory, TLS", 636, "tls"),
)
"""RFC 3261 §18 and 5630 (SIP), 8489 and 8656 (STUN, TURN), 6120 (messages), 4513 (directory)."""
