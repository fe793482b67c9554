"""What a capture of others cannot know, in words."""

from __future__ import annotations

from tarnfell.core.quality import Criterion
from tarnfell.exchange.streams import FoundStream

UNKNOWN_CODEC = Criterion(ie=0, bpl=25.1, ptime_ms=20)
"""Stands in where only counts and times are read and no quality is told."""

DELAY_UNKNOWN = "One-way delay is not in a capture: quality leaves the network's delay out."


def no_quality(stream: FoundStream) -> str:
    """Why a stream without a codec is not judged."""
    return f"Payload type {stream.payload_type} is dynamic: name the codec to have quality."
