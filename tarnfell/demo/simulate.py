"""A seeded path, simulated for many calls at once: a shared queue, other people's traffic, loss.

Calls are rows, packets are columns; time runs in slots in which every call's
queue is moved one step together.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

SLOT_MS = 5.0
_WARM_UP_SLOTS = 1600


@dataclass(frozen=True)
class Way:
    """One direction of a site's path."""

    rate_kbps: float
    queue_ms: float
    base_ms: float
    jitter_ms: float
    loss_pct: float
    burst_rate: float = 1.3
    """What other people's traffic offers while it bursts, as a share of the rate."""
    burst_on_s: float = 7.0
    burst_off_s: float = 9.0


@dataclass(frozen=True)
class Moved:
    """Packets of one direction: times in microseconds, shape (rows, packets); ``arrived`` False where lost."""

    sent_us: Ints
    recv_us: Ints
    arrived: NDArray[np.bool_]


@dataclass(frozen=True)
class Stream:
    """Packets alike in timing: when each is due after the stream's start, and within what its copies are spread."""

    due_ms: Floats
    spread_ms: float

    @staticmethod
    def even(packets: int, interval_ms: float) -> Stream:
        return Stream(np.arange(packets, dtype=np.float64) * interval_ms, interval_ms)


def move_packets(
    links: Sequence[tuple[Way, Floats]],
    start_us: Ints,
    streams: Sequence[tuple[Stream, int]],
    own_kbps: float,
    rng: np.random.Generator,
) -> list[Moved]:
    """Send every stream, so many copies of it at each start, over the links; what each kind of stream met.

    Each link has the chance 0…1 that other traffic is bursting on it, of the shape of ``start_us``, (starts,).
    Whatever starts together shares one queue. A kind's rows are its copies at the first start, then at the second,
    and so on.
    """
    length_ms = max(float(stream.due_ms[-1]) + stream.spread_ms for stream, _ in streams)
    slots = int(length_ms / SLOT_MS) + 3
    queues = [_queue(way, slots, load, own_kbps, rng) for way, load in links]
    ways = [way for way, _ in links]
    wait_ms = np.sum([wait for wait, _ in queues], axis=0)
    kept = np.prod([1 - dropped for _, dropped in queues], axis=0)
    return [_move(ways, start_us, stream, copies, wait_ms, 1 - kept, rng) for stream, copies in streams]


def _move(
    ways: Sequence[Way],
    start_us: Ints,
    stream: Stream,
    copies: int,
    wait_ms: Floats,
    overflow: Floats,
    rng: np.random.Generator,
) -> Moved:
    rows, packets = len(start_us) * copies, len(stream.due_ms)
    late_ms = rng.exponential(0.06, (rows, packets))
    spread = np.tile(np.linspace(0, stream.spread_ms, copies, endpoint=False), len(start_us))[:, None]
    at_ms = spread + stream.due_ms + late_ms
    slot = np.minimum((at_ms / SLOT_MS).astype(int), wait_ms.shape[1] - 1)
    row = np.repeat(np.arange(len(start_us)), copies)[:, None]
    jitter_ms, loss_pct = sum(way.jitter_ms for way in ways), sum(way.loss_pct for way in ways)
    delay_ms = sum(way.base_ms for way in ways) + wait_ms[row, slot] + rng.exponential(jitter_ms, (rows, packets))
    lost = rng.random((rows, packets)) < np.maximum(overflow[row, slot], loss_pct / 100)
    # One queue, first in first out: nothing overtakes.
    recv_ms = np.maximum.accumulate(at_ms + delay_ms, axis=1)
    origin = np.repeat(start_us, copies)[:, None]
    return Moved(
        sent_us=origin + np.rint(at_ms * 1000).astype(np.int64),
        recv_us=origin + np.rint(recv_ms * 1000).astype(np.int64),
        arrived=~lost,
    )


def _queue(way: Way, slots: int, load: Floats, own_kbps: float, rng: np.random.Generator) -> tuple[Floats, Floats]:
    """Waiting time and chance of being dropped in each slot, shape (moments, slots)."""
    moments = len(load)
    share = way.burst_on_s / (way.burst_on_s + way.burst_off_s)
    # Load shifts how long bursts last against how long they pause; 0 means none at all.
    on_share = np.clip(load * share * 2, 0, 0.95)
    leave = np.full(moments, SLOT_MS / 1000 / way.burst_on_s)
    enter = np.divide(leave * on_share, 1 - on_share)
    on = rng.random(moments) < on_share
    steps = _WARM_UP_SLOTS + slots
    flips, noise = np.empty((steps, moments)), np.empty((steps, moments))
    for step in range(steps):  # drawn in turn: a seed makes the same bursts however long they are looked at
        rng.random(out=flips[step])
        noise[step] = rng.gamma(4, 0.25, moments)
    stays, enters = flips >= leave, flips < enter
    bursting = np.empty((steps, moments), dtype=bool)
    for step in range(steps):
        on = bursting[step] = np.where(on, stays[step], enters[step])
    offered = own_kbps / way.rate_kbps + np.where(bursting, way.burst_rate, 0.12) * noise
    more = (offered - 1) * SLOT_MS
    waits, over = np.empty((steps, moments)), np.empty((steps, moments))
    wait = np.zeros(moments)
    for step in range(steps):
        wait = np.maximum(0.0, wait + more[step])
        np.maximum(0.0, wait - way.queue_ms, out=over[step])
        wait = np.subtract(wait, over[step], out=waits[step])
    seen = slice(_WARM_UP_SLOTS, None)
    return waits[seen].T, (over[seen] / (offered[seen] * SLOT_MS)).T
