"""A load of packets all alike as streams: as many as it takes, since one sends so many a second at the most."""

from __future__ import annotations

import math

from tarnfell.core.flow import Rate, rate_of
from tarnfell.core.rates import RTP_HEADER_BYTES
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.flow import FlowPlan

MOST_A_STREAM = 100
"""Packets a second."""
_PAYLOAD_TYPE, _CLOCK_HZ = 97, 8000


def streams_of(flow: FlowPlan) -> CallPlan:
    streams = math.ceil(flow.packets_per_s / MOST_A_STREAM)
    ptime_us = round(streams * 1e6 / flow.packets_per_s)
    return CallPlan(
        streams, max(1, round(flow.seconds * 1e6 / ptime_us)), ptime_us, _PAYLOAD_TYPE, _CLOCK_HZ,
        flow.packet_bytes - RTP_HEADER_BYTES, flow.dscp, flow.direction,
    )  # fmt: skip


def offered(flow: FlowPlan) -> Rate:
    """Of each direction that is used."""
    return rate_of(flow.packets_per_s, flow.packet_bytes)
