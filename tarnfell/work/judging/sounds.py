"""A call to be heard: which stretch of one direction, and what it would have been with media sent first."""

from __future__ import annotations

import io
import wave

from tarnfell.core.hearing.carried import LONGEST_S, Floats, Heard, pcm16, worst_stretch
from tarnfell.core.playout import Playout
from tarnfell.core.trace import Trace
from tarnfell.core.whatif.queues import queue_of
from tarnfell.core.whatif.remedies import media_first
from tarnfell.store.calls import StoredCall
from tarnfell.store.sites import Site
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import DIRECTIONS, half_of, trace_of

SLOWEST_KBPS = 10_000.0
"""Where the brief tells no rate of the line: a full packet then waits little more than a millisecond."""


def heard_trace(call: StoredCall, direction: str) -> Trace | None:
    """None where there is nothing to hear: what was sent is not known, or there is no such direction."""
    if direction not in DIRECTIONS or half_of(call.record):
        return None
    return trace_of(call.record, direction, relation_of(call))


def stretch_of(played: Playout, ptime_ms: int) -> tuple[int, int]:
    """First packet and how many: the stretch in which the listener missed most."""
    count = min(len(played.missed), int(LONGEST_S * 1000) // ptime_ms)
    return worst_stretch(played, count), count


def with_media_first(trace: Trace, site: Site, way: str) -> Trace | None:
    """None where no queue stands. Which leg it is on is not asked: it is what such an order would do there."""
    queue = queue_of(trace)
    if queue is None or not queue.stands:
        return None
    return media_first(trace, queue, float((site.up_kbps if way == "up" else site.down_kbps) or SLOWEST_KBPS))


def wav(made: Heard, sound: Floats) -> bytes:
    """A file of 16-bit samples, one channel."""
    body = io.BytesIO()
    with wave.open(body, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(made.rate_hz)
        file.writeframes(pcm16(sound))
    return body.getvalue()
