"""A call to be heard: a made-up sentence through the packets of one direction, as WAV."""

from __future__ import annotations

from flask import Blueprint, Response, g

from tarnfell.core.codecs import CodecError
from tarnfell.core.hearing.carried import carried
from tarnfell.core.playout import Playout
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.trace import Trace
from tarnfell.server.access import require_call
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.models.calls import SoundQuery, SoundView
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.sites import Site
from tarnfell.work.judging.sounds import heard_trace, stretch_of, wav, with_media_first

blueprint = Blueprint("hearing", __name__)


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
    trace = heard_trace(call, direction)
    if trace is None:
        raise Problem(404, "Of that direction there is nothing to hear: what was sent is not known.")
    criterion = criterion_for(codec, run.ptime_ms, query.buffer_ms, query.adaptive)
    played = criterion.play(trace)
    first, count = stretch_of(played, run.ptime_ms)
    if query.what == "media-first":
        mended = with_media_first(trace, site, direction)
        if mended is None:
            raise Problem(404, "No queue stands in that direction: media first would change nothing.")
        played = criterion.play(mended)
    made = carried(played, codec, run.ptime_ms, first, count)
    body = wav(made, made.sent if query.what == "sent" else made.heard)
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
