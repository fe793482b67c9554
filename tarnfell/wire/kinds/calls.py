"""Calls to be placed, in RTP's own terms, so that a probe need know no codec. The result is a record of packets."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.fields import bounded

DIRECTIONS = ("both", "up", "down")


@dataclass(frozen=True)
class VideoPlan:
    """Some video streams alike, each way."""

    name: str
    """Of the profile; carried through to the record, and nothing else."""
    streams: int
    packets: int
    frame_us: int
    payload_type: int
    clock_hz: int
    dscp: int
    refresh: tuple[int, ...]
    """Payload bytes of each packet of a refresh frame."""
    ordinary: tuple[int, ...]
    every: int
    """Frames from one refresh frame to the next."""


@dataclass(frozen=True)
class CallPlan:
    """Calls, and video beside them."""

    calls: int
    packets: int
    ptime_us: int
    payload_type: int
    clock_hz: int
    payload_bytes: int
    dscp: int
    direction: Literal["both", "up", "down"] = "both"
    """Which ways media flows."""
    video: tuple[VideoPlan, ...] = ()
    marks: tuple[int, ...] = ()
    """DSCP of each call, where they differ; empty: all are marked ``dscp``."""

    @property
    def video_streams(self) -> list[VideoPlan]:
        """One entry a stream."""
        return [one for one in self.video for _ in range(one.streams)]


@dataclass(frozen=True)
class LiveDirection:
    """One direction of one call or video stream, so far."""

    sent: int
    received: int
    reached: int
    late: int
    jitter_us: int
    pdv_us: int


@dataclass(frozen=True)
class LiveSecond:
    """What is known one second further into a run."""

    second: int
    up: tuple[LiveDirection, ...]
    down: tuple[LiveDirection, ...]
    rtt_us: Optional[int]
    send_late_max_us: int
    video_up: tuple[LiveDirection, ...] = ()
    video_down: tuple[LiveDirection, ...] = ()


@dataclass(frozen=True)
class CallsArguments:
    plan: CallPlan
    far_host: str
    far_port: int = bounded(1, 65535)
    far_key: str = bounded(1, 200)
