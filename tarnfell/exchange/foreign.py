"""Judging what others recorded: the same figures as for our own calls, less what a capture cannot know."""

from __future__ import annotations

from typing import Any

from tarnfell.core.quality import MOS_SCALE, Criterion
from tarnfell.exchange.streams import FoundStream

UNKNOWN_CODEC = Criterion(ie=0, bpl=25.1, ptime_ms=20)
"""Stands in where only counts and times are read and no quality is told."""

DELAY_UNKNOWN = "One-way delay is not in a capture: quality leaves the network's delay out."


def foreign_fields(
    stream: FoundStream, codec: str | None, fields: dict[str, Any], judged: bool, mos_scale: str = MOS_SCALE
) -> dict[str, Any]:
    """A stream's figures; delay is None, and so is quality where no codec is known."""
    told = {**fields, "delay_min_ms": None, "delay_p50_ms": None}
    if not judged:
        told |= {"mos": None, "r_factor": None, "mouth_to_ear_ms": None}
        told["reason"] = f"Payload type {stream.payload_type} is dynamic: name the codec to have quality."
    return {
        "ssrc": stream.ssrc,
        "source": stream.source,
        "destination": stream.destination,
        "payload_type": stream.payload_type,
        "codec": codec,
        "clock_hz": stream.clock_hz,
        "ptime_ms": stream.ptime_ms,
        "media": stream.media,
        "first_us": stream.first_us,
        "skew_ppm": stream.skew_ppm,
        "dscp_received": stream.dscp,
        "notes": list(stream.notes),
        "mos_scale": mos_scale,
        **told,
    }
