"""Continuous samples: what is wished, and how they stand."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.server.http.models.base import Model


class WatchForm(Model):
    far_end_id: int
    interval_ms: int = Field(1000, ge=200, le=60_000)
    dscp: int = Field(46, ge=0, le=63)


class WatchView(Model):
    """Continuous samples of a probe's way to one far end."""

    far_end_id: int
    far_end: str
    interval_ms: int
    dscp: int
    state: Literal["ended", "starting", "sampling", "trouble", "offline", "quiet"]
    says: str
    first_us: int | None
    last_us: int | None
    answered: int
    lost: int
    not_sent: int
    """For want of a session, of a network, or of a machine that was awake: no evidence of the way."""
    without_us: int
    """Stretches between the first and the last of which no sample came in, together."""
    recent_rtt_ms: float | None
    """Median of the last ten minutes; null where nothing was answered."""
    recent_sent: int
    recent_lost: int
    recent_beside: int
    """Of the recent ones, taken while calls loaded the line."""
