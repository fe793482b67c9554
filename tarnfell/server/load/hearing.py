"""A call to be heard: a made-up sentence through the packets of one direction, as WAV."""

from __future__ import annotations

import io
import wave

from flask import Blueprint, Response, g

from tarnfell.core.codecs import CodecError
from tarnfell.core.hearing.carried import LONGEST_S, Floats, Heard, carried, pcm16, worst_stretch
from tarnfell.core.playout import Playout
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.trace import Trace
from tarnfell.core.whatif.queues import queue_of
from tarnfell.core.whatif.remedies import media_first
from tarnfell.server.access import require_call
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.models.calls import SoundQuery, SoundView
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.sites import Site
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import DIRECTIONS, half_of, trace_of

blueprint = Blueprint("hearing", __name__)

SLOWEST_KBPS = 10_000.0
"""Where the brief tells no rate of the line: a full packet then waits little more than a millisecond."""


@endpoint(blueprint, "GET", "/api/calls/<int:call_id>/<direction>.wav", produces="audio/wav")
def hear_call(call_id: int, direction: str, query: SoundQuery) -> Response:
    """The worst stretch of one direction as it would have sounded: as sent, as heard, or with media sent first."""
    call = require_call(call_id)
    run = run_store.run_by_id(g.db, call.run_id)
    site = site_store.site_by_id(g.db, run.site_id)
    try:
        codec = codec_of_site(g.db, site.id, query.codec or run.codec)
        codec.check_ptime(run.ptime_ms)
    except CodecError as error:
        raise Problem(422, str(error)) from None
    known = next((d for d in DIRECTIONS if d == direction), None)
    trace = trace_of(call.record, known, relation_of(call)) if known else None
    if known is None or trace is None or half_of(call.record):
        raise Problem(404, "Of that direction there is nothing to hear: what was sent is not known.")
    criterion = criterion_for(codec, run.ptime_ms, query.buffer_ms, query.adaptive)
    played = criterion.play(trace)
    first, count = stretch_of(played, run.ptime_ms)
    if query.what == "media-first":
        mended = with_media_first(trace, site, known)
        if mended is None:
            raise Problem(404, "No queue stands in that direction: media first would change nothing.")
        played = criterion.play(mended)
    made = carried(played, codec, run.ptime_ms, first, count)
    body = _wav(made, made.sent if query.what == "sent" else made.heard)
    response = Response(body, mimetype="audio/wav")
    name = f"call{call_id}-{direction}-{query.what}.wav"
    response.headers["Content-Disposition"] = f'inline; filename="{name}"'
    return response


def sound_view(trace: Trace, played: Playout, criterion: Criterion, site: Site, way: str) -> SoundView:
    """What there is to hear of a direction, without making any sound."""
    ptime_ms = round(criterion.ptime_ms)
    first, count = stretch_of(played, ptime_ms)
    mended = with_media_first(trace, site, way)
    after = criterion.play(mended).missed[first : first + count] if mended is not None else None
    return SoundView(
        from_s=first * ptime_ms / 1000,
        seconds=count * ptime_ms / 1000,
        packets=count,
        missed=int(played.missed[first : first + count].sum()),
        missed_with_media_first=None if after is None else int(after.sum()),
    )


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


def _wav(made: Heard, sound: Floats) -> bytes:
    body = io.BytesIO()
    with wave.open(body, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(made.rate_hz)
        file.writeframes(pcm16(sound))
    return body.getvalue()
