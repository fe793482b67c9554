"""The listener's buffer: which packets came in time to be heard.

A receiver knows no send times; it plays each packet a while after the fastest it has met, its *base*. So a packet
is judged by the base known when it arrived, never by a faster one still to come. A route that becomes shorter lowers
the base with its first packet. A route that becomes longer is followed once the delay has stood at its new level for
two seconds; a queue, which rises and falls, is not followed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from tarnfell.core.quantiles import quantiles_of_each
from tarnfell.core.streams import burst_ratio
from tarnfell.core.trace import Bools, Trace

Floats = NDArray[np.float64]

DEFAULT_BUFFER_MS = 60.0
MAX_BUFFER_MS = 1000.0

ADAPTIVE_FLOOR_MS = 20.0
ADAPTIVE_START_MS = 60.0
ADAPTIVE_MEMORY_S = 4
ADAPTIVE_PERCENTILE = 98
ADAPTIVE_MARGIN_MS = 5.0
ADAPTIVE_FALL_MS = 10.0
"""How much shallower the buffer may become from one second to the next; it deepens at once."""

SETTLED_MS = 3.0
"""A fixed buffer's base within this of the fastest packet of its route counts as there already: it is set up once,
by a receiver that has met calls of this route before. The adaptive one is given nothing in advance."""
STEP_MS = 10.0
"""A new level this far above the base is a longer route."""
STEP_STEADY_MS = 5.0
"""Within which the fastest packets of a level stay, quarter second by quarter second."""
STEP_LOOK_US = 2_000_000
_BLOCK_US = 250_000
_BLOCKS = STEP_LOOK_US // _BLOCK_US


@dataclass(frozen=True)
class Playout:
    """What the listener got. ``late`` and ``missed`` have shape (sent,)."""

    base_ms: Floats
    """Delay of the fastest packet the receiver went by, in the middle of each second, shape (seconds,); NaN where
    nothing arrived."""
    depth_ms: Floats
    """Of the buffer above its base in each second of the call, shape (seconds,)."""
    late: Bools
    missed: Bools
    """Lost on the way or too late: a hole in what is heard."""

    @property
    def mean_depth_ms(self) -> float:
        return float(self.depth_ms.mean())

    @property
    def mean_base_ms(self) -> float | None:
        """None where nothing arrived."""
        mean = float(self.base_ms.mean())
        return None if np.isnan(mean) else mean

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
    """Play every packet ``buffer_ms`` after the fastest one known would be due; what comes later is late."""
    _check(buffer_ms)
    second = seconds_of(trace)
    base = base_of(trace, SETTLED_MS)
    depth = np.full(int(second[-1]) + 1, float(buffer_ms))
    return _playout(trace, base + buffer_ms, _by_second(base, second), depth)


def adaptive(trace: Trace, ceiling_ms: float, floor_ms: float = ADAPTIVE_FLOOR_MS) -> Playout:
    """A buffer that follows the delay it saw, within floor and ceiling above its base, set anew each second.

    What a second is played at is the greatest 98th percentile of delay of the four seconds before it, with 5 ms to
    spare; it deepens at once and falls by 10 ms a second at most. The first second has 60 ms. The stream has no
    pauses between words, so a second is where the depth may change. Nothing a listener could not have known is used.
    """
    _check(ceiling_ms)
    floor_ms = min(floor_ms, ceiling_ms)
    base, second = base_of(trace), seconds_of(trace)
    count = int(second[-1]) + 1
    (seen,) = quantiles_of_each(trace.delay_us / 1000, second[trace.arrived], count, [ADAPTIVE_PERCENTILE])
    seen = np.where(np.isnan(seen), -np.inf, seen + ADAPTIVE_MARGIN_MS)
    # Of the seconds before each: of the first there is none.
    before = np.concatenate((np.full(ADAPTIVE_MEMORY_S, -np.inf), seen))[:-1]
    greatest = sliding_window_view(before, ADAPTIVE_MEMORY_S).max(axis=1).tolist()
    # A second begins with the base its first packet found; where that falls in mid second, what is played falls with
    # it.
    begins = base[np.searchsorted(second, np.arange(count))].tolist()
    depths = []
    at = begins[0] + min(max(ADAPTIVE_START_MS, floor_ms), ceiling_ms)
    for s, begin in enumerate(begins):
        if s:
            at = max(greatest[s], at - ADAPTIVE_FALL_MS)
        at = min(max(at, begin + floor_ms), begin + ceiling_ms)
        depths.append(at - begin)
    depth = np.array(depths)
    due = base + depth[second]
    return _playout(trace, due, _by_second(base, second), np.nan_to_num(depth.round(6), nan=floor_ms))


def base_of(trace: Trace, settled_ms: float = 0.0) -> Floats:
    """Shape (sent,), ms: the fastest delay the receiver went by when each packet came, or would have; NaN if none did.

    The head of this file says what it follows. With ``settled_ms`` a base this near to its route's fastest is that.
    """
    if not bool(trace.arrived.any()):
        return np.full(len(trace), np.nan)
    came = np.flatnonzero(trace.arrived)
    delay = trace.delay_us / 1000
    base = np.empty(len(came))
    starts, levels = _longer_routes(trace)
    # In the order of sending: a packet that was overtaken by one on a shorter route keeps its place in the schedule.
    begin = np.searchsorted(trace.sent_us[came], np.asarray(starts, np.int64)).tolist()
    for first, last, level in zip([0, *begin], [*begin, len(came)], [np.inf, *levels], strict=True):
        if first == last:
            continue
        known = np.minimum(np.minimum.accumulate(delay[first:last]), level)
        base[first:last] = np.where(known - known[-1] <= settled_ms, known[-1], known)
    # A lost packet is judged by what came before it.
    return np.asarray(base[np.maximum(np.cumsum(trace.arrived) - 1, 0)])


def _longer_routes(trace: Trace) -> tuple[list[int], list[float]]:
    """When the receiver began to go by a longer route (sent time, µs), and the delay it then went by (ms)."""
    delay = trace.delay_us / 1000
    starts: list[int] = []
    levels: list[float] = []
    if float(delay.max() - delay.min()) <= STEP_MS:
        return starts, levels
    block = ((trace.sent_us - trace.sent_us[0]) // _BLOCK_US)[trace.arrived]
    first = np.flatnonzero(np.diff(block, prepend=-1))
    floors = np.minimum.reduceat(delay, first).tolist()
    numbers = block[first].tolist()
    base = floors[0]
    settled = 0
    """First block of the route that is followed now."""
    for i, floor in enumerate(floors):
        base = min(base, floor)
        if floor - base <= STEP_MS or i - settled < _BLOCKS - 1 or numbers[i] - numbers[i - _BLOCKS + 1] >= 2 * _BLOCKS:
            continue
        recent = floors[i - _BLOCKS + 1 : i + 1]
        if min(recent) - base > STEP_MS and max(recent) - min(recent) <= STEP_STEADY_MS:
            base, settled = min(recent), i + 1
            starts.append(int(trace.sent_us[0]) + (numbers[i] + 1) * _BLOCK_US)
            levels.append(base)
    return starts, levels


def _by_second(base: Floats, second: NDArray[np.int64]) -> Floats:
    """The base of the packet in the middle of each second; a second in which none was due has the one before's."""
    count = int(second[-1]) + 1
    begin, end = np.searchsorted(second, np.arange(count)), np.searchsorted(second, np.arange(count), side="right")
    return np.asarray(base[np.minimum((begin + end) // 2, len(base) - 1)])


def _playout(trace: Trace, due_ms: Floats, base_ms: Floats, depth_ms: Floats) -> Playout:
    # In whole microseconds, as the times are: a packet due at the very instant it came is in time.
    late = trace.arrived & (trace.recv_us - trace.sent_us > np.rint(np.nan_to_num(due_ms) * 1000))
    return Playout(base_ms=base_ms, depth_ms=depth_ms, late=late, missed=late | ~trace.arrived)


def _check(buffer_ms: float) -> None:
    if not 0 <= buffer_ms <= MAX_BUFFER_MS:
        raise ValueError(f"A buffer of {buffer_ms:g} ms cannot be used: choose 0 to {MAX_BUFFER_MS:g} ms.")
