"""Calls as a codec and some profiles ask for them, put into RTP's own terms for a probe that knows neither."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.core.codecs import Codec
from tarnfell.core.rates import Flow, PlanError, VideoLoad, hold, plan_run
from tarnfell.core.video import CLOCK_HZ, PAYLOAD_TYPE, find_profile
from tarnfell.wire.kinds.calls import CallPlan, VideoPlan


def call_plan(
    codec: Codec,
    ptime_ms: int,
    calls: int,
    call_s: float,
    dscp: int,
    direction: Flow = "both",
    video: Sequence[VideoLoad] = (),
) -> CallPlan:
    """``calls`` calls of ``call_s`` seconds, and video beside them. Raises CodecError, VideoError or PlanError."""
    plan_run(codec, ptime_ms, hold(calls, call_s), direction=direction, video=video)
    if not 0 <= dscp <= 63:
        raise PlanError(f"DSCP {dscp} is not valid: choose 0 to 63 (46 is EF).")
    return CallPlan(
        calls=calls,
        packets=int(call_s * 1000 / ptime_ms),
        ptime_us=ptime_ms * 1000,
        payload_type=codec.payload_type,
        clock_hz=codec.clock_hz,
        payload_bytes=codec.payload_bytes(ptime_ms),
        dscp=dscp,
        direction=direction,
        video=tuple(_video_plan(load, call_s) for load in video),
    )


def _video_plan(load: VideoLoad, call_s: float) -> VideoPlan:
    profile = find_profile(load.profile)
    refresh, ordinary = profile.cut()
    return VideoPlan(
        name=profile.name,
        streams=load.streams,
        packets=profile.packets_in(int(call_s * profile.frames_per_s)),
        frame_us=profile.frame_us,
        payload_type=PAYLOAD_TYPE,
        clock_hz=CLOCK_HZ,
        dscp=load.dscp,
        refresh=tuple(refresh),
        ordinary=tuple(ordinary),
        every=profile.frames_per_refresh,
    )
