"""A load of packets all alike, of a size and rate of one's own. Facts only: the record of its packets."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fields import bounded

FlowDirection = Literal["both", "up", "down"]
LEAST_PER_S, MOST_PER_S = 20, 5000
LEAST_BYTES, MOST_BYTES = 20, 1400
"""UDP's payload: RTP's header, and at least eight bytes."""
MOST_SECONDS = 600.0
MOST_KEPT = 40_000
"""Packets of a direction whose record a probe can tell at once."""


@dataclass(frozen=True)
class FlowPlan:
    packet_bytes: int = bounded(LEAST_BYTES, MOST_BYTES, default=200)
    """UDP's payload, RTP's header in it."""
    packets_per_s: float = bounded(LEAST_PER_S, MOST_PER_S, default=500.0)
    """Each way."""
    seconds: float = bounded(1, MOST_SECONDS, default=10.0)
    dscp: int = bounded(0, 63, default=0)
    direction: FlowDirection = "both"


@dataclass(frozen=True)
class FlowArguments:
    plan: CallPlan
    far_host: str
    far_port: int = bounded(1, 65535)
    far_key: str = bounded(1, 200)


@dataclass(frozen=True)
class FlowResult:
    record: bytes = bounded(most=700_000, default=b"")
    """The run's packets, as calls are recorded; empty while it goes on."""
    stopped: bool = False
    cut: Optional[str] = None
    """Why it was broken off; the record then holds the probe's half."""
