"""What the two ends of a run saw of themselves: whether they sent on time, dropped packets, or had their clocks set.

And whether one measured the network or itself: limits on its own behaviour, in words.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Optional

from tarnfell.wire.kinds.fields import bounded, read_known

_WORDS = 500
_REASONS = 100
LATE_P99_LIMIT_MS = 10.0
"""Half the usual packet interval; beyond it the stream sent is no longer the stream asked for."""
LOOP_P99_LIMIT_MS = 30.0
"""Of an end that sends and receives in one loop with much else, a browser or its far end. Its packets carry when they
really left, so what it sends late is not told as delay; what it lets wait is, and must stay below half a listener's
buffer."""
LATE_MAX_LIMIT_MS = 100.0
CPU_WAIT_LIMIT_PCT = 10.0


@dataclass(frozen=True)
class Lateness:
    """Of many packets, milliseconds: actual minus planned send time, where nothing else is said."""

    p50: Optional[float] = None
    p99: Optional[float] = None
    max: Optional[float] = None


@dataclass(frozen=True)
class ClockStep:
    """The system's clock was set while it stamped packets."""

    at_us: int
    step_ms: float


@dataclass(frozen=True)
class EndCheck:
    """One end. None where nothing was sent, or the system does not tell."""

    arrangement: Optional[str] = bounded(most=_WORDS, default=None)
    """How sending and receiving shared the machine."""
    priority: Optional[str] = bounded(most=_WORDS, default=None)
    receive_stamps: Optional[str] = bounded(most=_WORDS, default=None)
    send_late_ms: Optional[Lateness] = None
    not_sent: int = 0
    """Packets the system refused to send."""
    receive_queue_drops: int = 0
    strays: int = 0
    """Packets that belonged to no stream of the run."""
    refused: int = 0
    """Answers that nothing listens where media was sent."""
    clock_steps: tuple[ClockStep, ...] = ()
    cpu_wait_pct: Optional[float] = None
    """Of the time, waiting for a processor."""
    cpu_stolen_pct: Optional[float] = None
    rtcp_rtt_us: Optional[int] = None
    scatter_ms: Optional[Lateness] = None
    """How long what had arrived waited for this end's own program; where the system's stamps do not tell."""
    held_ms: Optional[Lateness] = None
    """How long what was sent was held back by this end's own transport before it left."""
    hidden_s: float = 0.0
    """Of a browser's page: how long it was in the background."""


@dataclass(frozen=True)
class SelfCheck:
    tainted: bool = False
    """Whether an end measured itself and not the network."""
    reasons: tuple[str, ...] = bounded(most=_REASONS, default=())
    probe: EndCheck = EndCheck()
    far_end: EndCheck = EndCheck()

    @property
    def ends(self) -> tuple[EndCheck, EndCheck]:
        return self.probe, self.far_end


@dataclass(frozen=True)
class FarCheck:
    """What a far end tells with its half of a run."""

    reasons: tuple[str, ...] = bounded(most=_REASONS, default=())
    self_check: EndCheck = EndCheck()


def far_check_of(told: object) -> FarCheck:
    """Raises KindError."""
    return read_known(FarCheck, told or {}, "The far end’s self-check")


def self_check_of(told: object) -> SelfCheck:
    """As a record's head tells it. Raises KindError; what is not known here a newer end may tell."""
    return read_known(SelfCheck, told or {}, "The self-check")


def end_check_of(told: object) -> EndCheck:
    """As the other end tells it. Raises KindError."""
    return read_known(EndCheck, told or {}, "The self-check")


def lateness_of(late_us: Sequence[int]) -> Optional[Lateness]:
    """Percentiles of actual minus planned send time, milliseconds; None when nothing was sent."""
    if not late_us:
        return None
    ordered = sorted(late_us)
    last = len(ordered) - 1
    return Lateness(ordered[last // 2] / 1000, ordered[last * 99 // 100] / 1000, ordered[last] / 1000)


def judge(end: str, check: EndCheck, p99_limit_ms: float = LATE_P99_LIMIT_MS) -> list[str]:
    """Why this end's share of the result is not to be trusted; empty when it is."""
    reasons = []
    late = check.send_late_ms or Lateness()
    if late.p99 is not None and late.p99 > p99_limit_ms:
        reasons.append(f"The {end} sent one packet in a hundred over {late.p99:.1f} ms late.")
    if late.max is not None and late.max > LATE_MAX_LIMIT_MS:
        reasons.append(f"The {end} once stood still for {late.max:.0f} ms while it should have sent.")
    for kept, what in ((check.scatter_ms, "had arrived"), (check.held_ms, "was to leave")):
        if kept and kept.p99 is not None and kept.p99 > p99_limit_ms:
            reasons.append(f"The {end} let one packet in a hundred that {what} wait for over {kept.p99:.1f} ms.")
        elif kept and kept.max is not None and kept.max > LATE_MAX_LIMIT_MS:
            reasons.append(f"The {end} once let what {what} wait for {kept.max:.0f} ms.")
    if check.not_sent:
        reasons.append(f"The {end}'s system refused to send {check.not_sent} packets.")
    if check.receive_queue_drops:
        reasons.append(f"The {end} dropped {check.receive_queue_drops} packets in its own receive queue.")
    for step in check.clock_steps:
        reasons.append(f"The {end}'s clock was set by {step.step_ms:.1f} ms during the run.")
    wait = check.cpu_wait_pct
    if wait is not None and wait > CPU_WAIT_LIMIT_PCT:
        reasons.append(f"The {end}'s sender waited {wait:.0f} % of the time for a processor.")
    return reasons
