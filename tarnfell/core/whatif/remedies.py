"""What a remedy makes of a queue: media sent first, or a line with a higher rate."""

from __future__ import annotations

import numpy as np

from tarnfell.core.trace import Trace
from tarnfell.core.whatif.queues import Floats, Queue, carried, every_nth

FULL_PACKET_BYTES = 1514
"""Ethernet's longest frame without tags: what media must wait for when it is sent first."""
LOCAL_S = 0.5
"""Within so much on either side the share that a full queue drops is read."""


def media_first(trace: Trace, queue: Queue, rate_kbps: float, mended: float = 1.0) -> Trace:
    """As if media never waited for more than the packet that is being sent, as with priority or fair queueing by flow
    at the outlet that is full. Of the packets that a full queue may have dropped the part ``mended`` arrives."""
    if not queue.stands:
        return trace
    at_most = FULL_PACKET_BYTES * 8 / rate_kbps
    back = every_nth(queue.dropped(trace), mended)
    return carried(trace, queue, np.minimum(queue.wait_ms, at_most), back)


def larger_line(trace: Trace, queue: Queue, factor: float, mended: float = 1.0) -> Trace:
    """As if the outlet sent ``factor`` (at least 1) times as fast what was offered to it then.

    What was offered between two packets is what the queue grew by and what was sent meanwhile, and what was dropped
    (Lindley's recursion run backwards); a queue that is empty needs no reading, because what does not fill the line
    fills no larger one. The queue holds as many bytes as before. Raises ValueError for a smaller line: how much passed
    an empty queue is not in a call's packets."""
    if factor < 1:
        raise ValueError("What a smaller line would have done cannot be told from a call's packets.")
    if not queue.stands:
        return trace
    gap = np.diff(trace.sent_us) / 1000
    held = np.diff(queue.wait_ms)
    busy = (queue.wait_ms[1:] > 0) | (queue.wait_ms[:-1] > 0)
    accepted = np.where(busy, np.maximum(held + gap, 0.0), 0.0)
    dropped = queue.dropped(trace)
    offered = accepted / (1 - np.minimum(_around(dropped, trace), 0.95)[1:])
    most = float(queue.wait_ms.max()) / factor
    wait = np.empty(len(trace))
    wait[0] = at = float(queue.wait_ms[0]) / factor
    over = np.zeros(len(trace), bool)
    for i, (work, passed) in enumerate(zip((offered / factor).tolist(), gap.tolist(), strict=True), 1):
        at = max(0.0, at + work - passed)
        if at > most:
            over[i], at = True, most
        wait[i] = at
    back = every_nth(dropped & ~over, mended)
    return carried(trace, queue, np.minimum(wait, queue.wait_ms), back)


def _around(dropped: np.ndarray[tuple[int], np.dtype[np.bool_]], trace: Trace) -> Floats:
    """Share of packets dropped within half a second of each."""
    half_us = int(LOCAL_S * 1_000_000)
    first = np.searchsorted(trace.sent_us, trace.sent_us - half_us)
    last = np.searchsorted(trace.sent_us, trace.sent_us + half_us, side="right")
    total = np.concatenate([[0], np.cumsum(dropped)])
    return np.asarray((total[last] - total[first]) / (last - first))
