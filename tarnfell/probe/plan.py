"""What a probe is asked to send, in RTP's own terms, so that no codec need be known here; and the streams of it."""

from __future__ import annotations

import random
import secrets
from dataclasses import dataclass, fields
from typing import Any, TypedDict

from tarnfell.media.streams import FramePattern, StreamSpec

DIRECTIONS = ("both", "up", "down")


class PlanUnknown(ValueError):
    """A plan this program does not understand."""


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
    direction: str = "both"
    """Which ways media flows: both, up or down."""
    video: tuple[VideoPlan, ...] = ()

    @staticmethod
    def from_json(value: dict[str, Any]) -> CallPlan:
        """Raises PlanUnknown for what a newer server may ask for."""
        if set(value) - {f.name for f in fields(CallPlan)} or value.get("direction", "both") not in DIRECTIONS:
            raise PlanUnknown(
                "The server asks for something this probe's program does not know yet. Update the probe from its place."
            )
        try:
            video = tuple(
                VideoPlan(**{**one, "refresh": tuple(one["refresh"]), "ordinary": tuple(one["ordinary"])})
                for one in value.get("video", [])
            )
            return CallPlan(**{**value, "video": video})
        except (TypeError, KeyError):
            raise PlanUnknown("The server's plan was not understood. Update the probe from its place.") from None

    @property
    def video_streams(self) -> list[VideoPlan]:
        """One entry a stream."""
        return [one for one in self.video for _ in range(one.streams)]

    def streams(self) -> tuple[list[StreamSpec], list[StreamSpec]]:
        """Up and down: the calls first, then the video streams. A silent direction has streams without packets."""
        ways = []
        for direction in ("up", "down"):
            silent = self.direction not in ("both", direction)
            # Half an interval apart, so that one end does not send at the instant it receives.
            half = 0 if direction == "up" else 1
            sound = [self._call(i, half) for i in range(self.calls)]
            pictures = [self._video(one, i, half) for one in self.video for i in range(one.streams)]
            ways.append([_silenced(s) if silent else s for s in sound + pictures])
        return ways[0], ways[1]

    def _call(self, number: int, half: int) -> StreamSpec:
        return StreamSpec(
            payload_type=self.payload_type,
            clock_hz=self.clock_hz,
            payload_bytes=self.payload_bytes,
            ptime_us=self.ptime_us,
            packets=self.packets,
            dscp=self.dscp,
            start_us=_phase(number, self.calls, half, self.ptime_us),
            **_random_start(),
        )

    def _video(self, one: VideoPlan, number: int, half: int) -> StreamSpec:
        return StreamSpec(
            payload_type=one.payload_type,
            clock_hz=one.clock_hz,
            payload_bytes=max(one.refresh),
            ptime_us=one.frame_us,
            packets=one.packets,
            dscp=one.dscp,
            start_us=_phase(number, one.streams, half, one.frame_us),
            frames=FramePattern(one.refresh, one.ordinary, one.every),
            **_random_start(),
        )


class _Start(TypedDict):
    ssrc: int
    first_sequence: int
    first_timestamp: int


def _random_start() -> _Start:
    """As RFC 3550 §5.1 has it."""
    return {
        "ssrc": secrets.randbits(32),
        "first_sequence": random.randrange(1 << 16),
        "first_timestamp": secrets.randbits(32),
    }


def _phase(number: int, of: int, half: int, interval_us: int) -> int:
    """Streams alike are spread over their interval."""
    return (half * interval_us // 2 + number * interval_us // of) % interval_us


def _silenced(spec: StreamSpec) -> StreamSpec:
    return StreamSpec(**{**{f.name: getattr(spec, f.name) for f in fields(StreamSpec)}, "packets": 0})
