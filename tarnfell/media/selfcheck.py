"""Whether one end measured the network or itself: limits on its own behaviour, in words."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.wire.kinds.selfcheck import EndCheck, Lateness

LATE_P99_LIMIT_MS = 10.0
"""Half the usual packet interval; beyond it the stream sent is no longer the stream asked for."""
LATE_MAX_LIMIT_MS = 100.0
CPU_WAIT_LIMIT_PCT = 10.0


def lateness_of(late_us: Sequence[int]) -> Lateness | None:
    """Percentiles of actual minus planned send time, milliseconds; None when nothing was sent."""
    if not late_us:
        return None
    ordered = sorted(late_us)
    last = len(ordered) - 1
    return Lateness(ordered[last // 2] / 1000, ordered[last * 99 // 100] / 1000, ordered[last] / 1000)


def judge(end: str, check: EndCheck) -> list[str]:
    """Why this end's share of the result is not to be trusted; empty when it is."""
    reasons = []
    late = check.send_late_ms or Lateness()
    if late.p99 is not None and late.p99 > LATE_P99_LIMIT_MS:
        reasons.append(f"The {end} sent one packet in a hundred over {late.p99:.1f} ms late.")
    if late.max is not None and late.max > LATE_MAX_LIMIT_MS:
        reasons.append(f"The {end} once stood still for {late.max:.0f} ms while it should have sent.")
    for kept, what in ((check.scatter_ms, "that had arrived"), (check.held_ms, "that was to leave")):
        if kept and kept.p99 is not None and kept.p99 > LATE_P99_LIMIT_MS:
            reasons.append(f"The {end} let one packet in a hundred {what} wait for over {kept.p99:.1f} ms.")
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
