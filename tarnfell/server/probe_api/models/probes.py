"""What probes and server say to one another."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from pydantic import Field

from tarnfell.server.http.models.base import LAST_US, Model


class Enrol(Model):
    token: str = Field(min_length=1, max_length=200)
    environment: dict[str, object] = Field(default_factory=dict, max_length=40)
    """As Surroundings in tarnfell/wire/kinds has it."""


class Enrolled(Model):
    secret: str
    name: str
    site: str


class Heartbeat(Model):
    environment: dict[str, object] | None = Field(None, max_length=40)
    """Null when nothing has changed since the probe last told."""
    holds: list[int] | None = Field(None, max_length=10_000)
    """Jobs in hand, or done with the result still on the probe's disk; None from a probe that does not tell."""
    watch: dict[str, object] | None = None
    """The watch it runs, as WatchRunning in tarnfell/wire/kinds/watch.py has it; None where it runs none."""
    kinds: list[str] | None = Field(None, max_length=100)
    """What the probe can do, of tarnfell/wire/kinds; None from one that does one thing at a time."""
    clock_us: int | None = Field(None, ge=0, le=LAST_US)
    """Its clock as it tells this, Unix microseconds; None from one that does not tell."""


class JobOffer(Model):
    """A job to begin now."""

    id: int
    kind: str
    arguments: Mapping[str, object]
    """As the kind's own model in tarnfell/wire/kinds has them."""


class CallsOfBefore(Model):
    """Calls, as probes are told that do one thing at a time."""

    id: int
    far_host: str
    far_port: int
    far_key: str
    plan: dict[str, object]


class HeartbeatAnswer(Model):
    jobs: list[JobOffer] = Field(default_factory=list)
    stop: list[int] = Field(default_factory=list)
    """Jobs in the probe's hands that somebody wants to end."""
    watch: dict[str, object] | None = None
    """The watch that is wanted, as Watch in tarnfell/wire/kinds/watch.py has it; null for none."""
    job: CallsOfBefore | None = None
    command: JobOffer | None = None
    """``job`` and ``command`` are for probes that do not tell what kinds they know; one of them at a time."""
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
    """LiveSecond of tarnfell/wire/kinds/calls.py, bounded."""

    second: int = Field(ge=0, le=1_000_000)
    up: list[ProgressDirection] = Field(max_length=100)
    down: list[ProgressDirection] = Field(max_length=100)
    video_up: list[ProgressDirection] = Field(default_factory=list, max_length=100)
    video_down: list[ProgressDirection] = Field(default_factory=list, max_length=100)
    rtt_us: int | None
    send_late_max_us: int


class Known(Model):
    """What is known so far of a job that goes on, as the kind's own model in tarnfell/wire/kinds has its result."""

    result: dict[str, object]


class ProgressAnswer(Model):
    stop: bool


class Failure(Model):
    reason: str = Field(min_length=1, max_length=2000)
    code: str | None = Field(None, max_length=20)
    """From wire/failures.py; older probes tell the sentence alone."""
    server_reachable: bool | None = None
    """Whether the probe could reach this server at the instant of the failure."""


class Outcome(Model):
    result: dict[str, object]
    """As the kind's own model in tarnfell/wire/kinds has it."""


class OutcomeOfBefore(Model):
    """How a job other than calls ended, as probes tell it that do one thing at a time."""

    result: dict[str, object] | None = None
    failure: str | None = Field(None, max_length=2000)


class Done(Model):
    state: Literal["waiting", "taken", "running", "delivered", "done", "failed"]
    """Delivered: the record is on the server's disk and will be judged in turn."""
