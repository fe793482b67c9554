"""Filling the line: TCP streams one way, the other, and both, with two calls and time stamps beside them.

One call is marked and one is not; the time stamps are not. What comes back is a record of their packets, and what the
streams moved while. Facts only; the server judges them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fields import bounded

Way = Literal["idle", "up", "down", "both"]
Place = Literal["gateway", "edge"]
SLOT_MS = 100
MAX_SECONDS = 60
MAX_STREAMS = 16


@dataclass(frozen=True)
class FillPlan:
    """How the line is filled. A ceiling of 0 lets the streams take what they get."""

    seconds: float = bounded(2, MAX_SECONDS, default=10.0)
    """Each way."""
    streams: int = bounded(1, MAX_STREAMS, default=4)
    """In each direction."""
    idle_s: float = bounded(2, 30, default=5.0)
    """Before the first; calls alone are on the line."""
    rest_s: float = bounded(2, 30, default=4.0)
    """After each, so that queues run empty."""
    ways: tuple[Literal["up", "down", "both"], ...] = ("up", "down", "both")
    ceiling_kbps: int = bounded(0, 10_000_000, default=0)
    """Of all streams of a direction together."""
    most_bytes: int = bounded(0, 10**13, default=0)
    """Of all streams together, both ways, after which they end: a line is metered. 0: no end but their time."""

    @property
    def length_s(self) -> float:
        return self.idle_s + len(self.ways) * (self.seconds + self.rest_s)


@dataclass(frozen=True)
class FillArguments:
    plan: CallPlan
    fill: FillPlan
    far_host: str
    far_port: int = bounded(1, 65535)
    far_key: str = bounded(1, 200)
    gateway: str = ""
    """Empty: the way out that the system has."""
    edge: str = ""
    """Empty: the first hop beyond the gateway that says who it is."""


@dataclass(frozen=True)
class SenderFacts:
    """What the sending systems tell of their streams of one direction. None where they do not."""

    congestion: Optional[str] = None
    """Name of the congestion control."""
    sent_bytes: Optional[int] = None
    retransmitted_bytes: Optional[int] = None
    receiver_limited_pct: Optional[float] = None
    """Of the time, waiting for room at the receiver."""
    sender_limited_pct: Optional[float] = None
    """Of the time, waiting for room in its own send buffer."""
    queued_ms: Optional[float] = None
    """By how much their round trip, smoothed, stood above its least at the end; of the stream that was worst."""


@dataclass(frozen=True)
class FillPhase:
    """A stretch of the run. Times are Unix microseconds of the probe's clock."""

    way: Way
    from_us: int
    until_us: int
    up: tuple[int, ...] = ()
    """Bytes that streams brought to the far end, in slots of SLOT_MS from the first byte on."""
    down: tuple[int, ...] = ()
    """Bytes that streams brought to the probe."""
    up_sender: Optional[SenderFacts] = None
    down_sender: Optional[SenderFacts] = None
    failure: Optional[str] = None
    """Why streams could not be opened, or ended early."""


@dataclass(frozen=True)
class Echoes:
    """ICMP echoes to one place on the way, beside everything else."""

    place: Place
    address: str
    at_us: tuple[int, ...] = ()
    """When each was sent."""
    rtt_us: tuple[int, ...] = ()
    """Round trip of each; -1 where no answer came."""


@dataclass(frozen=True)
class FillResult:
    phases: tuple[FillPhase, ...] = ()
    echoes: tuple[Echoes, ...] = ()
    record: bytes = bounded(most=700_000, default=b"")
    """The run's packets, as calls are recorded; empty while the run goes on."""
    stopped: bool = False
    """Somebody ended it early."""
    cut: Optional[str] = None
    """Why it was broken off; the record then holds the probe's half."""
    cut_s: float = 0.0
    """When the far end was last heard of, since the run began."""
