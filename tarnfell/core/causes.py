"""The closed list of causes, the legs and the directions they are told of: every stage shares it."""

from __future__ import annotations

from typing import Literal

CauseKey = Literal[
    # inside
    "inside-down", "inside-congested", "inside-radio", "inside-cable",
    # line
    "line-down", "line-loss", "uplink-queue", "downlink-queue", "uplink-small", "downlink-small", "policed",
    # beyond
    "beyond-down", "beyond-congested", "beyond-loss", "route-changed", "far-away",
    # either way
    "one-way", "delay-swings",
    # priority, reach, names, translation, signalling, size, video
    "marking-changed", "priority-ignored", "port-blocked", "udp-blocked", "service-silent", "service-tampered",
    "resolver-dead", "names-slow", "names-wrong", "translation-forgets", "translation-per-destination",
    "signalling-rewritten", "mtu-hole", "large-packets-lost", "pictures-break",
    # said where it would worry somebody, or not the network
    "hop-slow", "echo-muted", "probe-spoiled", "clock-set", "evidence-short",
]  # fmt: skip

LegName = Literal["inside", "line", "beyond", "inside or line", "unknown"]
LEG_WORDS: dict[LegName, str] = {
    "inside": "inside the site",
    "line": "on the line",
    "beyond": "beyond the provider’s edge",
    "inside or line": "inside the site or on its line",
    "unknown": "somewhere on the path",
}

Way = Literal["up", "down", "both"]
WAY_WORDS: dict[Way, str] = {"up": "upload", "down": "download", "both": "both directions"}

Direction = Literal["up", "down"]
DIRECTIONS: tuple[Direction, Direction] = ("up", "down")

NETWORK, PROVIDER, FIREWALL, FAR_END, ROUTER = (
    "whoever runs the site’s network",
    "the line’s provider",
    "whoever runs the firewall",
    "whoever runs the far end",
    "whoever runs the WAN router",
)
"""Who acts, where the brief names nobody."""
