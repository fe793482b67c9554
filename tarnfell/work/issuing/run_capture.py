"""A run as it arrived at both ends, as a capture that any packet viewer opens."""

from __future__ import annotations

import heapq
import sqlite3
from collections.abc import Iterator

import numpy as np

from tarnfell.core.codecs import Codec, find_codec
from tarnfell.core.video import CLOCK_HZ, PAYLOAD_TYPE
from tarnfell.exchange.writing import Sent, capture_chunks
from tarnfell.store import calls as call_store
from tarnfell.store import videos as video_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.runs import Run
from tarnfell.store.videos import StoredVideo
from tarnfell.wire.record import Record
from tarnfell.wire.rtp import RtpPacket
from tarnfell.work.ingest.packets import arrivals_of
from tarnfell.work.ingest.pictures import profile_of

# A capture of ours names the ends by documentation addresses: where they really stood is nobody else's business.
PROBE_ADDRESS, FAR_ADDRESS = "192.0.2.1", "198.51.100.1"
FIRST_PORT = 20000


def capture_of(db: sqlite3.Connection, run: Run) -> Iterator[bytes]:
    """A piece at a time. When each packet arrived is held in memory, some 150 bytes of each; the frames are not."""
    streams: list[Iterator[Sent]] = []
    for call in call_store.calls_of_run(db, run.id):
        streams += _call_streams(call, find_codec(run.codec), run.ptime_ms)
    for stream in video_store.videos_of_run(db, run.id):
        streams += _video_streams(stream, run.calls)
    return capture_chunks(heapq.merge(*streams, key=lambda one: one.at_us))


def _call_streams(call: StoredCall, codec: Codec, ptime_ms: int) -> Iterator[Iterator[Sent]]:
    step, payload = codec.timestamp_step(ptime_ms), bytes(codec.payload_bytes(ptime_ms))

    def stream(direction: str, source: _End, destination: _End, ssrc: int) -> Iterator[Sent]:
        for seq, at_us, dscp, ttl in _in_time(call.record, direction):
            rtp = RtpPacket(codec.payload_type, seq % 65536, seq * step % 2**32, ssrc, payload=payload)
            yield Sent(at_us, source, destination, dscp, ttl, rtp)

    return (stream(*way) for way in _ways(call.record, call.number))


def _video_streams(video: StoredVideo, calls: int) -> Iterator[Iterator[Sent]]:
    profile = profile_of(video.record)

    def stream(direction: str, source: _End, destination: _End, ssrc: int) -> Iterator[Sent]:
        arrivals = _in_time(video.record, direction)
        numbers = np.array([seq for seq, *_ in arrivals], np.int64)
        frames = profile.frame_of(numbers)
        ends_frame = profile.frame_of(numbers + 1) != frames
        columns = (frames.tolist(), profile.payload_of(numbers).tolist(), ends_frame.tolist())
        for (seq, at_us, dscp, ttl), frame, size, last in zip(arrivals, *columns, strict=True):
            ticks = frame * profile.frame_us * CLOCK_HZ // 1_000_000
            rtp = RtpPacket(PAYLOAD_TYPE, seq % 65536, ticks % 2**32, ssrc, marker=last, payload=bytes(size))
            yield Sent(at_us, source, destination, dscp, ttl, rtp)

    return (stream(*way) for way in _ways(video.record, calls + video.number))


def _in_time(record: Record, direction: str) -> list[tuple[int, int, int, int]]:
    """Merged streams have to be in order of time each, and a receiver's clock may have been set."""
    return sorted(arrivals_of(record, direction), key=lambda arrival: arrival[1])


_End = tuple[str, int]


def _ways(record: Record, number: int) -> Iterator[tuple[str, _End, _End, int]]:
    """Direction, source, destination and SSRC of the two ways; each stream has a pair of ports of its own."""
    near, far = (PROBE_ADDRESS, FIRST_PORT + 2 * number), (FAR_ADDRESS, FIRST_PORT + 2 * number)
    yield "up", near, far, record.meta.get("up", {}).get("ssrc", 0)
    yield "down", far, near, record.meta.get("down", {}).get("ssrc", 0)
