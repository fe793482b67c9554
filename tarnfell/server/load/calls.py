"""One call, all the way down; judged again from its packets with any codec or buffer."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from flask import Blueprint, Response, g
from numpy.typing import NDArray

from tarnfell.core import streams
from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.playout import Playout
from tarnfell.core.quality import (
    MOS_SCALE_WIDE,
    Criterion,
    StreamQuality,
    criterion_for,
    explain,
    judge_seconds,
)
from tarnfell.core.trace import Trace
from tarnfell.core.tracefile import csv_parts
from tarnfell.server.access import require_call
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.hearing import sound_view
from tarnfell.server.load.models.calls import (
    CallPage,
    CallQuery,
    CallSide,
    PacketPoint,
    SecondView,
)
from tarnfell.server.load.runs import call_direction, clock_words
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.sites import Site
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import DIRECTIONS, Half, JudgedDirection, half_of, judge_record, trace_of
from tarnfell.work.ingest.uploads import figures_of

blueprint = Blueprint("calls", __name__)

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
MAX_POINTS = 3000
"""More packets than this in one direction are thinned for the screen: worst and best of each stretch stay."""


@endpoint(blueprint, "GET", "/api/calls/<int:call_id>", response=CallPage)
def show_call(call_id: int, query: CallQuery) -> CallPage:
    """One call, judged with the asked-for buffer and codec."""
    call = require_call(call_id)
    run = run_store.run_by_id(g.db, call.run_id)
    check = run_store.self_check(run.self_check)
    site = site_store.site_by_id(g.db, run.site_id)
    try:
        sent_as = find_codec(run.codec)
        judged_as = codec_of_site(g.db, site.id, query.codec or run.codec)
        judged_as.check_ptime(run.ptime_ms)
    except CodecError as error:
        raise Problem(422, str(error)) from None
    criterion = criterion_for(judged_as, run.ptime_ms, query.buffer_ms, query.adaptive)
    relation = relation_of(call)
    judged, half = judge_record(call.record, relation, criterion), half_of(call.record)
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
        codec_title=sent_as.title,
        judged_as=judged_as.name,
        ptime_ms=run.ptime_ms,
        buffer_ms=query.buffer_ms,
        adaptive=query.adaptive,
        band=judged_as.band,
        target_mos=site.target_mos,
        mos_scale=criterion.mos_scale,
        mos_scale_wide=MOS_SCALE_WIDE,
        clock=clock_words(relation),
        clock_detail=_clock_detail(relation),
        tainted=list(check.reasons if check else ()),
        up=_side(judged["up"], criterion, half, site, "up") if "up" in judged else None,
        down=_side(judged["down"], criterion, half, site, "down") if "down" in judged else None,
    )


@endpoint(blueprint, "GET", "/api/calls/<int:call_id>/<direction>.csv", produces="text/csv")
def export_trace(call_id: int, direction: str) -> Response:
    """One direction's packets in the open CSV form."""
    call = require_call(call_id)
    known = next((d for d in DIRECTIONS if d == direction), None)
    trace = trace_of(call.record, known, relation_of(call)) if known else None
    if trace is None:
        raise Problem(404, "Nothing was sent in that direction.")
    response = Response(csv_parts(trace), mimetype="text/csv")
    response.headers["Content-Disposition"] = f'attachment; filename="call{call_id}-{direction}.csv"'
    return response


def _clock_detail(relation: ClockRelation) -> str | None:
    """Offset and skew as they were found; None where there was nothing to find."""
    if relation.kind != "estimated":
        return None
    return (
        f"far end's clock {relation.offset_us / 1000:+.3f} ms from the probe's, drifting {relation.skew_ppm:+.2f} ppm, "
        f"± {relation.uncertainty_ms or 0:.2f} ms"
    )


def _side(one: JudgedDirection, criterion: Criterion, half: Half | None, site: Site, way: str) -> CallSide:
    figures = call_direction(figures_of(one, criterion, half))
    quality = one.quality
    if quality is None or one.trace is None:
        return CallSide(
            figures=figures,
            effective_burst_ratio=1.0,
            bursts=None,
            ipdv_p99_ms=None,
            mean_depth_ms=None,
            where_it_went=None,
            why=one.reason or "",
            seconds=[],
            packets=[],
            sound=None,
            thinned=False,
        )
    played = one.played or criterion.play(one.trace)
    seconds = judge_seconds(one.trace, criterion, played)
    lost = explain(quality, criterion)
    changes = streams.ipdv_ms(one.trace)
    points, thinned = _packets(one.trace, played)
    return CallSide(
        figures=figures,
        effective_burst_ratio=quality.effective_burst_ratio,
        bursts=streams.bursts(played.missed, criterion.ptime_ms),
        ipdv_p99_ms=float(np.percentile(np.abs(changes), 99)) if len(changes) else None,
        mean_depth_ms=played.mean_depth_ms,
        where_it_went=lost,
        why=one.reason or _why(quality, criterion),
        seconds=[
            SecondView(s, n, t, None if d != d else d, m, e)
            for s, n, t, d, m, e in zip(
                seconds.sent.tolist(),
                seconds.lost.tolist(),
                seconds.late.tolist(),
                seconds.delay_p50_ms.tolist(),
                seconds.mos.tolist(),
                (seconds.depth_ms + np.nan_to_num(seconds.base_ms)).tolist(),
                strict=True,
            )
        ],
        packets=points,
        sound=None if half else sound_view(one.trace, played, criterion, site, way),
        thinned=thinned,
    )


def _why(quality: StreamQuality, criterion: Criterion) -> str:
    lost = explain(quality, criterion)
    if lost is None:
        return "The delay is not known: the MOS is what this direction had at best, with the way’s own delay left out."
    kind = "an adaptive buffer, at most " if criterion.adaptive else "the buffer of "
    causes = {
        "packets lost on the way": lost.loss,
        f"packets later than {kind}{criterion.buffer_ms:.0f} ms": lost.late,
        "delay": lost.delay,
        "the codec itself": lost.codec,
    }
    told = [f"{name} took {value:.2f}" for name, value in sorted(causes.items(), key=lambda c: -c[1]) if value >= 0.02]
    if not told:
        return "Nothing took anything noticeable: this is as good as the codec gets."
    words = ", ".join(told) + " MOS."
    return words[0].upper() + words[1:]


def _packets(trace: Trace, played: Playout) -> tuple[list[PacketPoint], bool]:
    late = played.late
    pdv = streams.pdv_ms(trace)
    at = (trace.sent_us - trace.sent_us[0]) / 1000
    keep = np.arange(len(trace))
    thinned = len(trace) > MAX_POINTS
    if thinned:
        keep = _thin(pdv, late, MAX_POINTS)
    points = [
        PacketPoint(at_ms, None, "lost") if ms != ms else PacketPoint(at_ms, ms, "late" if is_late else "in time")
        for at_ms, ms, is_late in zip(at[keep].tolist(), pdv[keep].tolist(), late[keep].tolist(), strict=True)
    ]
    return points, thinned


def _thin(pdv: Floats, late: Flags, points: int) -> Ints:
    """Indices that keep each stretch's extremes and one of each fate in it: the first of several."""
    stretches = points // 4
    sizes = np.full(stretches, len(pdv) // stretches)
    sizes[: len(pdv) % stretches] += 1
    begins = np.cumsum(sizes) - sizes
    missing = np.isnan(pdv)

    def first_in_each(marked: Flags) -> Ints:
        found = np.flatnonzero(marked)
        at = np.searchsorted(found, begins)
        found = np.append(found, len(pdv))[at]
        return np.asarray(found[found < begins + sizes])

    def extremes(pick: np.ufunc, none: float) -> Ints:
        values = np.where(missing, none, pdv)
        return first_in_each(~missing & (values == np.repeat(pick.reduceat(values, begins), sizes)))

    kept = (first_in_each(missing), extremes(np.maximum, -np.inf), extremes(np.minimum, np.inf), first_in_each(late))
    return np.unique(np.concatenate(kept))
