"""A run as a capture that any packet viewer opens."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from flask import Blueprint, Response, g

from tarnfell.core.codecs import Codec, find_codec
from tarnfell.core.video import CLOCK_HZ, PAYLOAD_TYPE
from tarnfell.exchange.writing import Sent, write_capture
from tarnfell.server.access import require_run
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.words import expected_video_rate
from tarnfell.store import calls as call_store
from tarnfell.store import videos as video_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.videos import StoredVideo
from tarnfell.wire.record import Record
from tarnfell.wire.rtp import RtpPacket
from tarnfell.work.ingest.packets import arrivals_of
from tarnfell.work.ingest.pictures import profile_of

blueprint = Blueprint("run_capture", __name__)

# A capture of ours names the ends by documentation addresses: where they really stood is nobody else's business.
PROBE_ADDRESS, FAR_ADDRESS = "192.0.2.1", "198.51.100.1"
FIRST_PORT = 20000
MAX_EXPORTED = 2_000_000


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>/run.pcap", produces="application/vnd.tcpdump.pcap")
def export_capture(run_id: int) -> Response:
    """A run as it arrived at both ends, as a capture that any packet viewer opens."""
    run = require_run(run_id)
    total = 2 * (run.calls * int(run.seconds * 1000 / run.ptime_ms) + round(run.seconds * expected_video_rate(run)))
    if total > MAX_EXPORTED:
        raise Problem(409, f"This run holds {total} packets, more than one capture takes. Export its calls one by one.")
    packets: list[Sent] = []
    for call in call_store.calls_of_run(g.db, run.id):
        packets += _call_packets(call, find_codec(run.codec), run.ptime_ms)
    for stream in video_store.videos_of_run(g.db, run.id):
        packets += _video_packets(stream, run.calls)
    headers = {"Content-Disposition": f'attachment; filename="run{run.id}.pcap"'}
    return Response(write_capture(packets), mimetype="application/vnd.tcpdump.pcap", headers=headers)


def _call_packets(call: StoredCall, codec: Codec, ptime_ms: int) -> Iterator[Sent]:
    step, payload = codec.timestamp_step(ptime_ms), bytes(codec.payload_bytes(ptime_ms))
    for direction, source, destination, ssrc in _ways(call.record, call.number):
        for seq, at_us, dscp, ttl in arrivals_of(call.record, direction):
            rtp = RtpPacket(codec.payload_type, seq % 65536, seq * step % 2**32, ssrc, payload=payload)
            yield Sent(at_us, source, destination, dscp, ttl, rtp)


def _video_packets(stream: StoredVideo, calls: int) -> Iterator[Sent]:
    profile = profile_of(stream.record)
    for direction, source, destination, ssrc in _ways(stream.record, calls + stream.number):
        arrivals = list(arrivals_of(stream.record, direction))
        numbers = np.array([seq for seq, *_ in arrivals], np.int64)
        frames = profile.frame_of(numbers)
        ends_frame = profile.frame_of(numbers + 1) != frames
        columns = (frames.tolist(), profile.payload_of(numbers).tolist(), ends_frame.tolist())
        for (seq, at_us, dscp, ttl), frame, size, last in zip(arrivals, *columns, strict=True):
            ticks = frame * profile.frame_us * CLOCK_HZ // 1_000_000
            rtp = RtpPacket(PAYLOAD_TYPE, seq % 65536, ticks % 2**32, ssrc, marker=last, payload=bytes(size))
            yield Sent(at_us, source, destination, dscp, ttl, rtp)


_End = tuple[str, int]


def _ways(record: Record, number: int) -> Iterator[tuple[str, _End, _End, int]]:
    """Direction, source, destination and SSRC of the two ways; each stream has a pair of ports of its own."""
    near, far = (PROBE_ADDRESS, FIRST_PORT + 2 * number), (FAR_ADDRESS, FIRST_PORT + 2 * number)
    yield "up", near, far, record.meta.get("up", {}).get("ssrc", 0)
    yield "down", far, near, record.meta.get("down", {}).get("ssrc", 0)
