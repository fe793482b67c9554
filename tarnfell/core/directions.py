"""What one direction of a call or a video stream came to: every figure that is kept, shown and exported, once.

What does not exist, or is not known, is None; a direction of which nothing is known has the values given here.
"""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True, kw_only=True)
class DirectionFigures:
    """One direction of a call."""

    sent: int = 0
    received: int = 0
    lost: int = 0
    loss_pct: float = 0.0
    late: int = 0
    """Packets that came after they were due to be played."""
    duplicates: int = 0
    reordered: int = 0
    jitter_ms: float = 0.0
    """RFC 3550 §6.4.1, at the end of the call; ``jitter_max_ms`` its highest."""
    jitter_max_ms: float = 0.0
    burst_ratio: float = 1.0
    """BurstR of ITU-T G.113, of losses on the network."""
    longest_loss_run: int = 0
    delay_min_ms: float | None = None
    delay_p50_ms: float | None = None
    pdv_p50_ms: float | None = None
    """Packet delay variation above the fastest packet (RFC 5481 §4.2)."""
    pdv_p95_ms: float | None = None
    pdv_p99_ms: float | None = None
    pdv_max_ms: float | None = None
    effective_loss_pct: float = 0.0
    """Lost or late."""
    mouth_to_ear_ms: float | None = None
    r_factor: float | None = None
    mos: float | None = None
    """On the codec's own scale; where ``mouth_to_ear_ms`` is None though packets arrived, what it had at best."""
    worst_second_mos: float | None = None
    worst_stretch_mos: float | None = None
    """Of the worst ten seconds."""
    ssrc: int = 0
    dscp_sent: int = 0
    dscp_kept_pct: float | None = None
    """Packets that arrived with the marking they were sent with, of those whose marking the system told."""
    dscp_received: dict[str, int] = field(default_factory=dict)
    """Packets by the marking they arrived with."""
    reason: str | None = None
    """Why there is no quality."""


@dataclass(frozen=True, kw_only=True)
class PictureFigures:
    """One direction of a video stream."""

    sent: int = 0
    received: int = 0
    lost: int = 0
    loss_pct: float = 0.0
    late: int = 0
    reordered: int = 0
    duplicates: int = 0
    delay_p50_ms: float | None = None
    pdv_p95_ms: float | None = None
    frames: int = 0
    whole: int = 0
    """Frames of which every packet came in time."""
    shown: int = 0
    """Whole frames that build on no broken one."""
    freezes: int = 0
    frozen_ms: float = 0.0
    longest_freeze_ms: float = 0.0
    mean_fps: float | None = None
    worst_second_fps: int | None = None
    score: float | None = None
    """Picture score, 1 to 5: our own."""
    ssrc: int = 0
    dscp_sent: int = 0
    dscp_received: dict[str, int] = field(default_factory=dict)
    reason: str | None = None
