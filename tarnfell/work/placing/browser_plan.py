"""What a browser's test puts on the line: as many packets as the codec's, and as near to its size as WebRTC allows."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.codecs import find_codec
from tarnfell.store.browsers import BrowserLink
from tarnfell.wire.browser import MAX_FILLING, PACKET_BYTES, UNDER_MESSAGE
from tarnfell.wire.kinds.fill import FillPlan

FILL_STREAMS = 4
"""Browsers hold six connections to a server (as most do); the page says that it is alive by another."""
RTP_UNDER = 40
"""IPv4, UDP and RTP under a codec's bytes."""


@dataclass(frozen=True)
class BrowserPlan:
    filling: int
    """Bytes after those that a packet needs for itself."""
    packet_bytes: int
    """On the wire, from the IP header on."""
    each_way_kbps: float
    volume_bytes: float
    """Both ways."""


def fill_plan(link: BrowserLink) -> FillPlan:
    """Of the line, up and then down."""
    return FillPlan(link.fill_s, FILL_STREAMS, ways=("up", "down"))


def plan_of(link: BrowserLink) -> BrowserPlan:
    """Raises CodecError for an interval that the codec has not."""
    wanted = find_codec(link.codec).payload_bytes(link.ptime_ms) + RTP_UNDER
    filling = min(MAX_FILLING, max(0, wanted - UNDER_MESSAGE - PACKET_BYTES))
    packet_bytes = UNDER_MESSAGE + PACKET_BYTES + filling
    kbps = link.calls * packet_bytes * 8 / link.ptime_ms
    return BrowserPlan(filling, packet_bytes, kbps, 2 * kbps * 125 * link.seconds)
