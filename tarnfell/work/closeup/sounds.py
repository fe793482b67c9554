"""A call to be heard: which stretch of one direction, and what it would have been with media sent first."""

from __future__ import annotations

import io
import wave
from dataclasses import dataclass

import numpy as np

from tarnfell.core.codecs import Codec
from tarnfell.core.hearing.carried import LONGEST_S, Floats, Heard, carried, pcm16, worst_stretch
from tarnfell.core.playout import Playout
from tarnfell.core.quality import Criterion
from tarnfell.core.trace import Trace
from tarnfell.core.whatif.queues import queue_of
from tarnfell.core.whatif.remedies import media_first
from tarnfell.store.sites import Site

SLOWEST_KBPS = 10_000.0
"""Where the brief tells no rate of the line: a full packet then waits little more than a millisecond."""


@dataclass(frozen=True)
class Audible:
    """The stretch of a direction that can be heard: the one in which the listener missed most."""

    first: int
    """Its first packet, from 0."""
    packets: int
    missed: tuple[int, ...]
    """Which of them, from 0."""
    missed_with_media_first: tuple[int, ...] | None
    """None where no queue stands."""

    def heard(self, codec: Codec, ptime_ms: int) -> Heard:
        return self._carried(self.missed, codec, ptime_ms)

    def with_media_first(self, codec: Codec, ptime_ms: int) -> Heard | None:
        """None where no queue stands."""
        missed = self.missed_with_media_first
        return None if missed is None else self._carried(missed, codec, ptime_ms)

    def _carried(self, missed: tuple[int, ...], codec: Codec, ptime_ms: int) -> Heard:
        flags = np.zeros(self.packets, bool)
        flags[list(missed)] = True
        return carried(flags, codec, ptime_ms, self.first)


def audible(trace: Trace, played: Playout, criterion: Criterion, site: Site, way: str) -> Audible:
    """What there is to hear of a direction, without making any sound."""
    count = min(len(played.missed), int(LONGEST_S * 1000) // round(criterion.ptime_ms))
    first = worst_stretch(played, count)
    mended = with_media_first(trace, site, way)

    def missed_of(one: Playout) -> tuple[int, ...]:
        return tuple(np.flatnonzero(one.missed[first : first + count]).tolist())

    return Audible(first, count, missed_of(played), None if mended is None else missed_of(criterion.play(mended)))


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
