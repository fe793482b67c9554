"""Loading the line with packets all alike."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.core.flow import FlowSeen
from tarnfell.server.check.models.checks import EndChoice
from tarnfell.server.http.models.base import Model
from tarnfell.store.jobs import State
from tarnfell.wire.kinds.flow import LEAST_BYTES, LEAST_PER_S, MOST_BYTES, MOST_PER_S, FlowDirection


class AskFlow(Model):
    probe_id: int
    far_end_id: int
    packet_bytes: int = Field(200, ge=LEAST_BYTES, le=MOST_BYTES)
    """UDP's payload, RTP's header in it."""
    packets_per_s: float = Field(500, ge=LEAST_PER_S, le=MOST_PER_S)
    """Each way."""
    seconds: float = Field(10, ge=1, le=60)
    dscp: int = Field(0, ge=0, le=63)
    direction: FlowDirection = "both"
    consent: Literal[True]
    """That the line carries this load for as long."""


class FlowLine(Model):
    """One load among others."""

    id: int
    probe: str
    far_end: str
    asked_us: int
    state: State
    words: str
    """Where it stands, or why it failed; empty once it is judged."""
    packet_bytes: int
    packets_per_s: float
    seconds: float
    dscp: int
    direction: FlowDirection
    seen: FlowSeen | None


class FlowPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    probes: list[EndChoice]
    far_ends: list[EndChoice]
    ceiling_kbps: int | None
    """What a load may take of each direction under the site's ceiling; null where it has none."""
    most_packets: int
    """Of each direction in one load."""
    flows: list[FlowLine]
    """Newest first."""
