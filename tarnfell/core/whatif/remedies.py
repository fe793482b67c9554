"""What a remedy makes of a queue: media sent first, or a line with a higher rate."""

from __future__ import annotations

import numpy as np

from tarnfell.core.trace import Bools, Ints, Trace
from tarnfell.core.whatif.queues import Floats, Queue, carried, every_nth

FULL_PACKET_BYTES = 1514
"""Ethernet's longest frame without tags: what media must wait for when it is sent first."""
PAUSE_US = 5000
"""Between two packets of one flow that are no burst."""
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
    leads = _leads(trace)
    sent_us, held_ms = trace.sent_us[leads], queue.wait_ms[leads]
    dropped = queue.dropped(trace)
    gap = np.diff(sent_us) / 1000
    busy = (held_ms[1:] > 0) | (held_ms[:-1] > 0)
    accepted = np.where(busy, np.maximum(np.diff(held_ms) + gap, 0.0), 0.0)
    offered = accepted / (1 - np.minimum(_around(dropped[leads], sent_us), 0.95)[1:])
    most = float(queue.wait_ms.max()) / factor
    at = float(held_ms[0]) / factor
    waits, over = [at], [False]
    for work, passed in zip((offered / factor).tolist(), gap.tolist(), strict=True):
        at = max(0.0, at + work - passed)
        over.append(at > most)
        at = min(at, most)
        waits.append(at)
    wait = np.interp(trace.sent_us, sent_us, waits)
    back = every_nth(dropped & ~np.array(over)[np.cumsum(leads) - 1], mended)
    return carried(trace, queue, np.minimum(wait, queue.wait_ms), back)


def _leads(trace: Trace) -> Bools:
    """Packets that come after a pause: all of a call, of a video frame the first. Those that follow at once stand
    behind it as well as in the queue, and are dropped more readily. Shape (sent,)."""
    return np.concatenate([[True], np.diff(trace.sent_us) >= PAUSE_US])


def _around(dropped: Bools, sent_us: Ints) -> Floats:
    """Share of packets dropped within half a second of each."""
    half_us = int(LOCAL_S * 1_000_000)
    first = np.searchsorted(sent_us, sent_us - half_us)
    last = np.searchsorted(sent_us, sent_us + half_us, side="right")
    total = np.concatenate([[0], np.cumsum(dropped)])
    return np.asarray((total[last] - total[first]) / (last - first))
