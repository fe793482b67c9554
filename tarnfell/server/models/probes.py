"""What probes and server say to one another."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, SerializerFunctionWrapHandler, model_serializer

from tarnfell.server.models.base import Model


class Enrol(Model):
    token: str = Field(min_length=1, max_length=200)
    environment: dict[str, Any] = Field(default_factory=dict, max_length=40)


class Enrolled(Model):
    secret: str
    name: str
    site: str


class Heartbeat(Model):
    environment: dict[str, Any] | None = Field(None, max_length=40)
    """Null when nothing has changed since the probe last told."""
    holds: list[int] | None = Field(None, max_length=10_000)
    """Runs whose results are on the probe's disk and not delivered yet; None from a probe that does not tell."""


class JobVideo(Model):
    name: str
    streams: int
    packets: int
    frame_us: int
    payload_type: int
    clock_hz: int
    dscp: int
    refresh: list[int]
    ordinary: list[int]
    every: int


class JobPlan(Model):
    calls: int
    packets: int
    ptime_us: int
    payload_type: int
    clock_hz: int
    payload_bytes: int
    dscp: int
    direction: Literal["both", "up", "down"] = "both"
    video: list[JobVideo] = Field(default_factory=list)

    @model_serializer(mode="wrap")
    def _plain(self, serialize: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """Without what is as it always was, so that a probe of before goes on placing plain calls."""
        values: dict[str, Any] = serialize(self)
        return {
            k: v for k, v in values.items() if not (k == "direction" and v == "both") and not (k == "video" and not v)
        }


class Job(Model):
    id: int
    far_host: str
    far_port: int
    far_key: str
    plan: JobPlan


class ToldCommand(Model):
    id: int
    kind: str
    arguments: dict[str, Any]


class HeartbeatAnswer(Model):
    job: Job | None = None
    command: ToldCommand | None = None
    again_s: float
    """How soon the server wants to hear from this probe again."""


class ProgressDirection(Model):
    sent: int
    received: int
    reached: int
    late: int
    jitter_us: int
    pdv_us: int


class Progress(Model):
    second: int = Field(ge=0, le=1_000_000)
    up: list[ProgressDirection] = Field(max_length=100)
    down: list[ProgressDirection] = Field(max_length=100)
    video_up: list[ProgressDirection] = Field(default_factory=list, max_length=100)
    video_down: list[ProgressDirection] = Field(default_factory=list, max_length=100)
    rtt_us: int | None
    send_late_max_us: int


class ProgressAnswer(Model):
    stop: bool


class Failure(Model):
    reason: str = Field(min_length=1, max_length=2000)
    code: str | None = Field(None, max_length=20)
    """From wire/failures.py; older probes tell the sentence alone."""
    server_reachable: bool | None = None
    """Whether the probe could reach this server at the instant of the failure."""


class Done(Model):
    state: Literal["waiting", "taken", "running", "delivered", "done", "failed"]
    """Delivered: the record is on the server's disk and will be judged in turn."""
