"""The queue that one call's packets met, read out of their own delays.

A queue lasts: it fills and drains over many packets. What a single packet has more than its neighbours is scatter of
radio or hosts, which no change to a queue takes away. So the queue is what stands under the excess delay for at least
``WINDOW_MS`` (a morphological opening, Serra 1982), and the rest is scatter, which stays with its packet.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.trace import NOT_ARRIVED, Bools, Ints, Trace

Floats = NDArray[np.float64]

WINDOW_MS = 200.0
STANDS_MS = 20.0
"""A queue that never holds so much is none."""
FULL = 0.8
"""From this part of its highest on, a queue may have been full when a packet was lost."""


@dataclass(frozen=True)
class Queue:
    """What each packet of a trace met. Arrays have shape (sent,)."""

    base_ms: float
    """Of the way without the queue."""
    wait_ms: Floats
    """In the queue; of a lost packet that of its neighbours."""
    scatter_ms: Floats
    """What it had besides; 0 of a lost one."""
    full: Bools
    """Whether the queue stood so high that it may have dropped what was lost."""

    @property
    def stands(self) -> bool:
        return bool(self.wait_ms.max(initial=0.0) >= STANDS_MS)

    def dropped(self, trace: Trace) -> Bools:
        """Packets that the queue may have dropped. Shape (sent,)."""
        return np.asarray(~trace.arrived & self.full)


def queue_of(trace: Trace, calm_ms: float | None = None) -> Queue | None:
    """None where nothing arrived. ``calm_ms`` is what the way has without a queue, where that is known: a queue that
    stood through the whole call has no other sign."""
    if not bool(trace.arrived.any()):
        return None
    came = np.flatnonzero(trace.arrived)
    delay = trace.delay_us / 1000
    # Not what the listener's buffer goes by: it follows a queue that stays full, as it would a longer route.
    base = float(delay.min())
    if calm_ms is not None and base > calm_ms + STANDS_MS:
        base = calm_ms
    whole = np.interp(np.arange(len(trace)), came, delay - base)
    wait = np.minimum(_opened(whole, _window(trace)), whole)
    scatter = np.where(trace.arrived, whole - wait, 0.0)
    top = float(wait.max())
    return Queue(base, wait, scatter, np.asarray((wait >= FULL * top) & (top >= STANDS_MS)))


def _window(trace: Trace) -> int:
    """Packets in ``WINDOW_MS``, three at least: the median over the trace, because a frame's come in one burst."""
    within = np.searchsorted(trace.sent_us, trace.sent_us + int(WINDOW_MS * 1000)) - np.arange(len(trace))
    return min(len(trace), max(3, int(np.median(within)))) if len(trace) > 1 else 1


def _opened(values: Floats, window: int) -> Floats:
    """The highest curve under ``values`` that rises nowhere for fewer than ``window`` neighbours."""
    before, after = (window - 1) // 2, window // 2
    least = _of_each(np.minimum, np.pad(values, (before, after), "edge"), window)
    return _of_each(np.maximum, np.pad(least, (after, before), "edge"), window)


def _of_each(pick: np.ufunc, values: Floats, window: int) -> Floats:
    """The least or the most of every ``window`` neighbours, shape (n − window + 1,): of two, of four, and so on."""
    held, width = values, 1
    while 2 * width <= window:
        held, width = pick(held[:-width], held[width:]), 2 * width
    rest = window - width
    return np.asarray(pick(held[: len(held) - rest], held[rest:]))


def carried(trace: Trace, queue: Queue, wait_ms: Floats, back: Bools) -> Trace:
    """The trace with other waits, and with the lost packets of ``back`` there."""
    delay_us = np.rint((queue.base_ms + wait_ms + queue.scatter_ms) * 1000).astype(np.int64)
    there = trace.arrived | back
    recv = np.where(there, trace.sent_us + delay_us, NOT_ARRIVED)
    return Trace(trace.seq, trace.sent_us, recv, trace.duplicates)


def every_nth(chosen: Bools, share: float) -> Bools:
    """An even ``share`` of the packets that are chosen. Shape (sent,)."""
    number: Ints = np.cumsum(chosen)
    return np.asarray(chosen & (np.floor(number * share) > np.floor((number - 1) * share)))
