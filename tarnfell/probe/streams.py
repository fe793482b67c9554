"""The streams of what a probe is asked to send."""

from __future__ import annotations

import random
import secrets
from dataclasses import replace
from typing import TypedDict

from tarnfell.media.streams import FramePattern, StreamSpec
from tarnfell.wire.kinds.calls import CallPlan, VideoPlan


def streams_of(plan: CallPlan) -> tuple[list[StreamSpec], list[StreamSpec]]:
    """Up and down: the calls first, then the video streams. A silent direction has streams without packets."""
    ways = []
    for direction in ("up", "down"):
        silent = plan.direction not in ("both", direction)
        # Half an interval apart, so that one end does not send at the instant it receives.
        half = 0 if direction == "up" else 1
        sound = [_call(plan, i, half) for i in range(plan.calls)]
        pictures = [_video(one, i, half) for one in plan.video for i in range(one.streams)]
        ways.append([replace(s, packets=0) if silent else s for s in sound + pictures])
    return ways[0], ways[1]


def _call(plan: CallPlan, number: int, half: int) -> StreamSpec:
    return StreamSpec(
        payload_type=plan.payload_type,
        clock_hz=plan.clock_hz,
        payload_bytes=plan.payload_bytes,
        ptime_us=plan.ptime_us,
        packets=plan.packets,
        dscp=plan.marks[number] if plan.marks else plan.dscp,
        start_us=_phase(number, plan.calls, half, plan.ptime_us),
        **_random_start(),
    )


def _video(one: VideoPlan, number: int, half: int) -> StreamSpec:
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
