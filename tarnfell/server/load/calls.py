"""One call, all the way down; judged again from its packets with any codec or buffer."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, g

from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.quality import MOS_SCALE_WIDE
from tarnfell.server.access import require_call
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.awaited import judged_lately, packets_asked, packets_response
from tarnfell.server.load.models.calls import Awaited, CallPage, CallQuery, CallSide, PacketsForm, SoundView
from tarnfell.server.load.runs import call_direction, clock_words
from tarnfell.server.report.models.documents import DocumentView
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.store.calls import StoredCall
from tarnfell.work.closeup.call import CALLS, CallChoice, CallCloseUp, CallLook, look_at_call
from tarnfell.work.closeup.sounds import Audible

blueprint = Blueprint("calls", __name__)


@endpoint(blueprint, "GET", "/api/calls/<int:call_id>", response=CallPage)
def show_call(call_id: int, query: CallQuery) -> CallPage:
    """One call, judged with the asked-for buffer and codec; a long one as soon as the clerk has."""
    call = require_call(call_id)
    look = look_for(call, chosen(query))
    run, site = look.run, look.site
    check = run_store.self_check(run.self_check)
    found = judged_lately(CALLS, look)
    awaited = found if isinstance(found, Awaited) else None
    relation = call.relation if isinstance(found, Awaited) else found.relation
    local = datetime.fromtimestamp(call.started_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    before, after = call_store.neighbours(g.db, call)
    return CallPage(
        id=call.id,
        previous_id=before,
        next_id=after,
        number=call.number,
        run_id=run.id,
        site_slug=site.slug,
        site_name=site.name,
        time_zone=site.time_zone,
        started_us=call.started_us,
        started_local=local.strftime("%a %d %b %Y %H:%M:%S"),
        calls=run.calls,
        codec=run.codec,
        codec_title=find_codec(run.codec).title,
        judged_as=look.codec.name,
        ptime_ms=run.ptime_ms,
        buffer_ms=query.buffer_ms,
        adaptive=query.adaptive,
        band=look.codec.band,
        target_mos=site.target_mos,
        mos_scale=look.criterion.mos_scale,
        mos_scale_wide=MOS_SCALE_WIDE,
        clock=clock_words(relation) if relation else None,
        clock_detail=_clock_detail(relation) if relation else None,
        tainted=list(check.reasons if check else ()),
        long=look.is_long,
        awaited=awaited,
        up=_side(found, "up", run.ptime_ms),
        down=_side(found, "down", run.ptime_ms),
    )


@endpoint(blueprint, "GET", "/api/calls/<int:call_id>/<direction>.csv", produces="text/csv")
def export_trace(call_id: int, direction: str) -> Response:
    """One direction's packets in the open CSV form; those of a long call are asked for instead."""
    call = require_call(call_id)
    return packets_response(look_for(call, CallChoice()), call, direction, f"call{call_id}")


@endpoint(blueprint, "POST", "/api/calls/<int:call_id>/packets", response=DocumentView)
def ask_for_call_packets(call_id: int, body: PacketsForm) -> DocumentView:
    """Have the packets of one direction of a call written down as CSV."""
    return packets_asked(require_call(call_id), body.direction)


def chosen(query: CallQuery) -> CallChoice:
    """What a request wants a call judged by."""
    return CallChoice(query.codec, query.buffer_ms, query.adaptive)


def look_for(call: StoredCall, choice: CallChoice) -> CallLook:
    """The call, to be judged as chosen."""
    try:
        return look_at_call(g.db, call, choice)
    except CodecError as error:
        raise Problem(422, str(error)) from None


def _clock_detail(relation: ClockRelation) -> str | None:
    """Offset and skew as they were found; None where there was nothing to find."""
    if relation.kind != "estimated":
        return None
    return (
        f"far end's clock {relation.offset_us / 1000:+.3f} ms from the probe's, drifting {relation.skew_ppm:+.2f} ppm, "
        f"± {relation.uncertainty_ms or 0:.2f} ms"
    )


def _side(found: CallCloseUp | Awaited, way: str, ptime_ms: int) -> CallSide | None:
    side = None if isinstance(found, Awaited) else found.side(way)
    if side is None:
        return None
    shown = vars(side) | {
        "figures": call_direction(side.figures),
        "sound": _sound(side.sound, ptime_ms) if side.sound else None,
    }
    return CallSide(**shown)


def _sound(audible: Audible, ptime_ms: int) -> SoundView:
    mended = audible.missed_with_media_first
    return SoundView(
        from_s=audible.first * ptime_ms / 1000,
        seconds=audible.packets * ptime_ms / 1000,
        packets=audible.packets,
        missed=len(audible.missed),
        missed_with_media_first=None if mended is None else len(mended),
    )
