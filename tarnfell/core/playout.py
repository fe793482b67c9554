"""The listener's buffer: which packets came in time to be heard."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.streams import burst_ratio, pdv_ms
from tarnfell.core.trace import Bools, Trace

DEFAULT_BUFFER_MS = 60.0
MAX_BUFFER_MS = 1000.0

ADAPTIVE_FLOOR_MS = 20.0
ADAPTIVE_START_MS = 60.0
ADAPTIVE_MEMORY_S = 4
ADAPTIVE_PERCENTILE = 98
ADAPTIVE_MARGIN_MS = 5.0
ADAPTIVE_FALL_MS = 10.0
"""How much shallower the buffer may become from one second to the next; it deepens at once."""


@dataclass(frozen=True)
class Playout:
    """What the listener got. ``late`` and ``missed`` have shape (sent,)."""

    depth_ms: NDArray[np.float64]
    """Of the buffer in each second of the call, shape (seconds,)."""
    late: Bools
    missed: Bools
    """Lost on the way or too late: a hole in what is heard."""

    @property
    def mean_depth_ms(self) -> float:
        return float(self.depth_ms.mean())

    @property
    def late_count(self) -> int:
        return int(np.count_nonzero(self.late))

    @property
    def effective_loss_pct(self) -> float:
        return 100 * float(np.count_nonzero(self.missed)) / len(self.missed)

    @property
    def effective_burst_ratio(self) -> float:
        return burst_ratio(self.missed)


def seconds_of(trace: Trace) -> NDArray[np.int64]:
    """Shape (sent,): the second of the call each packet was sent in.

    A rest of less than half a second at the end belongs to the second before it: a second of two packets is none.
    """
    second = (trace.sent_us - trace.sent_us[0]) // 1_000_000
    whole = max(1, (int(trace.sent_us[-1] - trace.sent_us[0]) + 500_000) // 1_000_000)
    return np.asarray(np.minimum(second, whole - 1))


def fixed(trace: Trace, buffer_ms: float = DEFAULT_BUFFER_MS) -> Playout:
    """Play every packet ``buffer_ms`` after the fastest one would be due; what comes later is late."""
    _check(buffer_ms)
    return _play(trace, np.full(int(seconds_of(trace)[-1]) + 1, float(buffer_ms)))


def adaptive(trace: Trace, ceiling_ms: float, floor_ms: float = ADAPTIVE_FLOOR_MS) -> Playout:
    """A buffer that follows the delay variation it saw, within floor and ceiling, set anew each second.

    The depth of a second is the greatest 98th percentile of delay variation of the four seconds before it, with
    5 ms to spare; it deepens at once and falls by 10 ms a second at most. The first second has 60 ms. The stream has no
    pauses between words, so a second is where the depth may change. Nothing a listener could not have known is used.
    """
    _check(ceiling_ms)
    floor_ms = min(floor_ms, ceiling_ms)
    variation, second = pdv_ms(trace), seconds_of(trace)
    count = int(second[-1]) + 1
    bounds = np.searchsorted(second, np.arange(count + 1))
    seen = np.zeros(count)
    for s in range(count):
        inside = variation[bounds[s] : bounds[s + 1]]
        inside = inside[~np.isnan(inside)]
        if len(inside):
            seen[s] = np.percentile(inside, ADAPTIVE_PERCENTILE) + ADAPTIVE_MARGIN_MS
    depth = np.empty(count)
    now = min(max(ADAPTIVE_START_MS, floor_ms), ceiling_ms)
    for s in range(count):
        if s:
            wanted = seen[max(0, s - ADAPTIVE_MEMORY_S) : s].max()
            now = min(max(wanted, now - ADAPTIVE_FALL_MS, floor_ms), ceiling_ms)
        depth[s] = now
    return _play(trace, depth)


def _play(trace: Trace, depth_ms: NDArray[np.float64]) -> Playout:
    late = np.zeros(len(trace), dtype=np.bool_)
    if bool(trace.arrived.any()):
        delay = trace.recv_us - trace.sent_us
        floor = int(trace.delay_us.min())
        late = trace.arrived & (delay - floor > depth_ms[seconds_of(trace)] * 1000)
    return Playout(depth_ms=depth_ms, late=late, missed=late | ~trace.arrived)


def _check(buffer_ms: float) -> None:
    if not 0 <= buffer_ms <= MAX_BUFFER_MS:
        raise ValueError(f"A buffer of {buffer_ms:g} ms cannot be used: choose 0 to {MAX_BUFFER_MS:g} ms.")
