"""The arithmetic of a brief: what its calls and video take of the line, what can be reached, and what to hear first."""

from __future__ import annotations

import math

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.rates import MAX_CALLS, CallRate, Link, call_rate, video_rate
from tarnfell.core.stats import moments_to_show
from tarnfell.core.verdict.capacity import WITNESS_CONFIDENCE
from tarnfell.core.video import find_profile
from tarnfell.server.brief.form import need_in, needed_calls, site_values
from tarnfell.server.brief.models.brief import (
    Arithmetic,
    BriefForm,
    RunArithmetic,
    StreamLoad,
)
from tarnfell.work.placing.rules import calls_within

RUN_CALL_S = 60.0
CROWDED_PCT = 75.0
"""Calls that take more of a line than this leave too little for everything else."""


def arithmetic_of(form: BriefForm) -> Arithmetic:
    """Raises Problem for a form that cannot be."""
    site_values(form)
    need = need_in(form)
    needed = needed_calls(form, need)
    link = _link(form)
    rate = call_rate(find_codec(form.codec), form.ptime_ms, link)
    loads = [_load(f"{find_codec(form.codec).title}, {form.ptime_ms} ms", needed, rate, link)]
    for video in form.video:
        profile = find_profile(video.profile)
        loads.append(_load(profile.title, video.streams, video_rate(profile, link), link))
    line_kbps = sum(load.line_kbps for load in loads)
    return Arithmetic(
        need=need,
        needed_calls=needed,
        loads=loads,
        line_kbps=line_kbps,
        share_up_pct=_share(line_kbps, form.up_kbps),
        share_down_pct=_share(line_kbps, form.down_kbps),
        ceiling_calls=calls_within(rate, form.up_kbps, form.down_kbps, form.ceiling_pct),
        run=_run(form, needed),
        moments_to_show=moments_to_show(form.targets.required_share_pct),
        best_mos=_best_mos(form),
        remarks=_remarks(form, needed, rate, line_kbps),
    )


def _link(form: BriefForm) -> Link:
    return Link(form.srtp, form.pppoe, form.vlan_tags, form.tunnel_bytes, form.ipv6)


def _load(title: str, streams: int, rate: CallRate, link: Link) -> StreamLoad:
    ip = rate.ipv6_kbps if link.ipv6 else rate.ipv4_kbps
    wire = rate.wire_ipv4_kbps + (ip - rate.ipv4_kbps)
    return StreamLoad(
        title=title,
        streams=streams,
        packets_per_s=streams * rate.packets_per_s,
        ip_kbps=streams * (ip + rate.rtcp_kbps),
        wire_kbps=streams * (wire + rate.rtcp_kbps),
        line_kbps=streams * rate.line_kbps,
    )


def _share(kbps: float, line_kbps: int | None) -> float | None:
    return 100 * kbps / line_kbps if line_kbps else None


def _run(form: BriefForm, needed: int) -> RunArithmetic:
    at_once = min(needed, MAX_CALLS)
    moments = moments_to_show(form.targets.required_share_pct, WITNESS_CONFIDENCE)
    return RunArithmetic(
        calls_at_once=at_once,
        call_s=RUN_CALL_S,
        moments=moments,
        load_s=moments * RUN_CALL_S,
        calls=moments * at_once,
        probes=math.ceil(needed / MAX_CALLS),
    )


def _at_best(form: BriefForm) -> tuple[Criterion, float]:
    """How calls of this brief are judged, and their mouth-to-ear delay over a network that adds none."""
    criterion = criterion_for(find_codec(form.codec), form.ptime_ms)
    return criterion, criterion.buffer_ms + criterion.ptime_ms + criterion.look_ahead_ms + criterion.device_ms


def _best_mos(form: BriefForm) -> float:
    criterion, ear_ms = _at_best(form)
    return float(criterion.mos(criterion.rating(ear_ms, 0.0, 1.0)))


def _out_of_reach(form: BriefForm) -> list[str]:
    """Bounds that no network can keep, with the best there is."""
    criterion, ear_ms = _at_best(form)
    best, title = _best_mos(form), find_codec(form.codec).title
    found = []
    for asked, what in (
        (form.targets.target_mos, "a call of"),
        (form.targets.min_stretch_mos, "ten seconds of"),
    ):
        if asked is not None and best < asked:
            found.append(
                f"No network can give {what} {asked:.1f} MOS with {title}: {best:.2f} ({criterion.mos_scale}) is its "
                "best, without any loss and delay. Choose another codec or a lower target."
            )
    most = form.targets.max_delay_ms
    if most is not None and ear_ms >= most:
        found.append(
            f"No network can keep {most:g} ms mouth-to-ear: the receiver’s buffer, packetisation interval and codec "
            f"take {ear_ms:.0f} ms by themselves."
        )
    return found


def _remarks(form: BriefForm, needed: int, rate: CallRate, line_kbps: float) -> list[str]:
    """What the consultant should hear before relying on these numbers."""
    found = _out_of_reach(form)
    for side, line in (("up", form.up_kbps), ("down", form.down_kbps)):
        share = _share(line_kbps, line)
        if share is not None and share > 100:
            found.append(f"The line cannot carry this: it would take {share:.0f} % of it {side}.")
        elif share is not None and share > CROWDED_PCT:
            found.append(f"This takes {share:.0f} % of the line {side}: little is left for everything else.")
    if form.up_kbps is None or form.down_kbps is None:
        found.append("Without the line's rates its share cannot be told, and no ceiling holds.")
    top = calls_within(rate, form.up_kbps, form.down_kbps, form.ceiling_pct)
    if top is not None and top < needed:
        found.append(
            f"The ceiling of {form.ceiling_pct:g} % lets a test place {top} of the {needed} needed calls: raise it, or "
            "the site can never be shown to carry them."
        )
    least = moments_to_show(form.targets.required_share_pct)
    if form.targets.required_moments < least:
        found.append(
            f"{form.targets.required_moments} ten-minute moments cannot show {form.targets.required_share_pct:g} %, "
            f"even without a bad call: {least} can."
        )
    if needed > MAX_CALLS:
        found.append(
            f"One probe places up to {MAX_CALLS} concurrent calls: {needed} take {math.ceil(needed / 100)} probes."
        )
    return found
