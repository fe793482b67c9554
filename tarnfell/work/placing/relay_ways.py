"""How a browser is told to go through a relay: its addresses (RFC 7065), and a name and password that pass there."""

from __future__ import annotations

import base64
import hashlib
import hmac
import ipaddress
from dataclasses import dataclass

from tarnfell.store.relays import Relay

GOOD_FOR_S = 2 * 3600
"""A made name and its password: longer than the longest test, shorter than somebody would find a use for."""
_NAME = "tarnfell"


@dataclass(frozen=True)
class RelayWays:
    udp: str
    tcp: str
    tls: str | None
    user: str
    password: str


def ways_through(relay: Relay, now_s: float) -> RelayWays:
    """A shared secret becomes a name that ends with a time, and its HMAC-SHA1 as password: what TURN servers take that
    are told a secret instead of users."""
    host = f"[{relay.host}]" if _is_v6(relay.host) else relay.host
    user, password = relay.user, relay.secret
    if not user:
        user = f"{round(now_s) + GOOD_FOR_S}:{_NAME}"
        password = base64.b64encode(hmac.digest(relay.secret.encode(), user.encode(), hashlib.sha1)).decode()
    return RelayWays(
        udp=f"turn:{host}:{relay.port}?transport=udp",
        tcp=f"turn:{host}:{relay.port}?transport=tcp",
        tls=f"turns:{host}:{relay.tls_port}?transport=tcp" if relay.tls_port else None,
        user=user,
        password=password,
    )


def _is_v6(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).version == 6
    except ValueError:
        return False
