"""The listener's buffer: which packets came in time to be heard."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tarnfell.core.streams import burst_ratio
from tarnfell.core.trace import Bools, Trace

DEFAULT_BUFFER_MS = 60.0
MAX_BUFFER_MS = 1000.0


@dataclass(frozen=True)
class Playout:
    """What the listener got. ``late`` and ``missed`` have shape (sent,)."""

    buffer_ms: float
    late: Bools
    missed: Bools
    """Lost on the way or too late: a hole in what is heard."""

    @property
    def late_count(self) -> int:
        return int(np.count_nonzero(self.late))

    @property
    def effective_loss_pct(self) -> float:
        return 100 * float(np.count_nonzero(self.missed)) / len(self.missed)

    @property
    def effective_burst_ratio(self) -> float:
        return burst_ratio(self.missed)


def fixed(trace: Trace, buffer_ms: float = DEFAULT_BUFFER_MS) -> Playout:
    """Play every packet ``buffer_ms`` after the fastest one would be due; what comes later is late."""
    if not 0 <= buffer_ms <= MAX_BUFFER_MS:
        raise ValueError(f"A buffer of {buffer_ms:g} ms cannot be used: choose 0 to {MAX_BUFFER_MS:g} ms.")
    late = np.zeros(len(trace), dtype=np.bool_)
    if bool(trace.arrived.any()):
        delay = trace.recv_us - trace.sent_us
        floor = int(trace.delay_us.min())
        late = trace.arrived & (delay - floor > buffer_ms * 1000)
    return Playout(buffer_ms=buffer_ms, late=late, missed=late | ~trace.arrived)
