"""A call to be heard: a made-up sentence through the packets of one direction, as WAV."""

from __future__ import annotations

from flask import Blueprint, Response

from tarnfell.server.access import require_call
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.awaited import judged_now
from tarnfell.server.load.calls import chosen, look_for
from tarnfell.server.load.models.calls import SoundQuery
from tarnfell.work.closeup.call import CALLS
from tarnfell.work.closeup.sounds import wav

blueprint = Blueprint("hearing", __name__)


@endpoint(blueprint, "GET", "/api/calls/<int:call_id>/<direction>.wav", produces="audio/wav")
def hear_call(call_id: int, direction: str, query: SoundQuery) -> Response:
    """The worst stretch of one direction as it would have sounded: as sent, as heard, or with media sent first."""
    look = look_for(require_call(call_id), chosen(query))
    side = judged_now(CALLS, look).side(direction)
    if side is None or side.sound is None:
        raise Problem(404, "Of that direction there is nothing to hear: what was sent is not known.")
    sound, of_call = side.sound, (look.codec, look.run.ptime_ms)
    made = sound.with_media_first(*of_call) if query.what == "media-first" else sound.heard(*of_call)
    if made is None:
        raise Problem(404, "No queue stands in that direction: media first would change nothing.")
    body = wav(made, made.sent if query.what == "sent" else made.heard)
    response = Response(body, mimetype="audio/wav")
    name = f"call{call_id}-{direction}-{query.what}.wav"
    response.headers["Content-Disposition"] = f'inline; filename="{name}"'
    return response
