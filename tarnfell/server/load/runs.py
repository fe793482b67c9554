"""Runs: placing calls, following them live, what came of them."""

from __future__ import annotations

import sqlite3

from flask import Blueprint, g

from tarnfell.core import emodel
from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.directions import DirectionFigures
from tarnfell.core.quality import criterion_for
from tarnfell.core.rates import PlanError, call_rate
from tarnfell.core.schedule import from_us
from tarnfell.core.targets import in_words
from tarnfell.core.video import VideoError
from tarnfell.server.access import require_run, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.sites import STATE_WORDS
from tarnfell.server.load.models.runs import (
    CallDirection,
    PlaceCalls,
    RateView,
    RunPage,
    RunWords,
    SelfCheckView,
    VideoLoadForm,
)
from tarnfell.server.load.videos import video_lines
from tarnfell.server.load.words import FLOW_WORDS, expected_video_rate, video_loads, video_views
from tarnfell.store import calls as call_store
from tarnfell.store import clocks as clock_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.runs import Run, RunSpec
from tarnfell.work.judging.calls import good_calls
from tarnfell.work.judging.run import run_direction
from tarnfell.work.placing.rules import against

blueprint = Blueprint("runs", __name__)


@endpoint(blueprint, "POST", "/api/sites/<slug>/runs", response=RunPage)
def place_calls(slug: str, body: PlaceCalls) -> RunPage:
    """Ask a probe to place calls."""
    site = require_site(slug)
    video = video_loads(body.video)
    probes = probe_store.probes_of(g.db, site.id)
    far_ends = place_store.far_ends_of(g.db, site.id)
    probe = next((p for p in probes if p.id == body.probe_id or body.probe_id is None), None)
    far_end = next((f for f in far_ends if f.id == body.far_end_id or body.far_end_id is None), None)
    if probe is None:
        raise Problem(409, "This site has no such probe. Place one first.")
    if far_end is None:
        raise Problem(409, "This site has no such far end. Say first where calls are answered.")
    spec = RunSpec(
        site_id=site.id,
        probe_id=probe.id,
        far_end_id=far_end.id,
        codec=body.codec,
        ptime_ms=body.ptime_ms,
        calls=body.calls,
        seconds=body.seconds,
        dscp=body.dscp,
        direction=body.direction,
        video=video,
        asked_by=g.user.id,
    )
    try:
        with writing(g.db):
            reason = against(g.db, site, probe, far_end, spec, from_us(now_us()))
            if reason:
                raise Problem(409, reason.words)
            run = run_store.add_run(g.db, spec, f"Requested by {g.user.name}.")
    except (CodecError, VideoError, PlanError) as error:
        raise Problem(422, str(error)) from None
    return run_page(g.db, run)


@endpoint(blueprint, "GET", "/api/runs/<int:run_id>", response=RunPage)
def show_run(run_id: int) -> RunPage:
    """One run: its life and, when done, what came of it."""
    return run_page(g.db, require_run(run_id))


@endpoint(blueprint, "POST", "/api/runs/<int:run_id>/stop", response=RunPage)
def stop_run(run_id: int) -> RunPage:
    """Stop a run; what was measured so far is kept."""
    with writing(g.db):
        job_store.ask_stop(g.db, require_run(run_id).id)
    return run_page(g.db, require_run(run_id))


@endpoint(blueprint, "PUT", "/api/runs/<int:run_id>", response=RunPage)
def describe_run(run_id: int, body: RunWords) -> RunPage:
    """Name a run, and note what is to be known of it."""
    run = require_run(run_id)
    with writing(g.db):
        run_store.describe(g.db, run.id, body.name, body.note)
    return run_page(g.db, require_run(run_id))


def run_page(db: sqlite3.Connection, run: Run) -> RunPage:
    site = site_store.site_by_id(db, run.site_id)
    engagement = engagement_store.engagement_by_id(db, site.engagement_id)
    codec = find_codec(run.codec)
    rate = call_rate(codec, run.ptime_ms, site.link)
    directions = call_store.directions_of_run(db, run.id) if run.state == "done" else []
    clock = clock_of(db, run) if directions else None
    return RunPage(
        id=run.id,
        name=run.name,
        note=run.note,
        again=PlaceCalls(
            codec=run.codec,
            ptime_ms=run.ptime_ms,
            calls=run.calls,
            seconds=run.seconds,
            dscp=run.dscp,
            direction=run.direction,
            video=[VideoLoadForm(profile=v.profile, streams=v.streams, dscp=v.dscp) for v in run.video],
            probe_id=run.probe_id,
            far_end_id=run.far_end_id,
        ),
        site_slug=site.slug,
        site_name=site.name,
        time_zone=site.time_zone,
        engagement_slug=engagement.slug,
        state=run.state,
        state_words=STATE_WORDS[run.state],
        failure=run.failure,
        codec=run.codec,
        codec_title=codec.title,
        ptime_ms=run.ptime_ms,
        calls=run.calls,
        seconds=run.seconds,
        dscp=run.dscp,
        direction=run.direction,
        flow_words=FLOW_WORDS[run.direction],
        video=video_views(run.video),
        video_rate=expected_video_rate(run),
        created_us=run.created_us,
        begun_us=run.begun_us,
        ended_us=run.ended_us,
        stop_asked=run.stop_reason is not None,
        rate=RateView(
            payload_bytes=rate.payload_bytes,
            packets_per_s=rate.packets_per_s,
            ipv4_kbps=rate.ipv4_kbps,
            ethernet_ipv4_kbps=rate.ethernet_ipv4_kbps,
            wire_ipv4_kbps=rate.wire_ipv4_kbps,
        ),
        target_mos=site.target_mos,
        acceptable_words=in_words(site.targets),
        mos_scale=criterion_for(codec, run.ptime_ms).mos_scale,
        clock=clock,
        cut=run.cut_reason,
        probe=probe_store.probe_by_id(db, run.probe_id).name,
        far_end=_far_end_name(db, run),
        events=list(job_store.events(db, run.id)),
        self_check=_self_check(run),
        good=good_calls(db, run, site.targets) if directions else None,
        up=run_direction([one.figures for one in directions if one.direction == "up"]),
        down=run_direction([one.figures for one in directions if one.direction == "down"]),
        streams=video_lines(db, run, site.targets) if directions else [],
        target_picture=site.target_picture,
    )


def _far_end_name(db: sqlite3.Connection, run: Run) -> str:
    far_end = place_store.far_end_by_id(db, run.far_end_id)
    return far_end.name if far_end else ""


def clock_words(relation: ClockRelation) -> str:
    """How one-way delay was known, in words."""
    if relation.kind == "shared":
        return "both ends read one clock"
    if relation.kind == "estimated":
        return f"clocks estimated ± {relation.uncertainty_ms or 0:.2f} ms"
    if relation.kind == "round trip":
        return f"half of RTCP’s round trip, ± {relation.uncertainty_ms or 0:.0f} ms: no time stamp was answered"
    return "clocks unrelated: one-way delay not known"


def clock_of(db: sqlite3.Connection, run: Run) -> str | None:
    """How the run's two ends' clocks stood, in words; None before there is a result."""
    relation = clock_store.relation_of_run(db, run.id)
    return clock_words(relation) if relation else None


def call_direction(figures: DirectionFigures) -> CallDirection:
    return CallDirection(**vars(figures), mos_wide=mos_wide(figures.r_factor))


def mos_wide(r_factor: float | None) -> float | None:
    """The same quality on the wideband scale."""
    return None if r_factor is None else float(emodel.mos_wideband_from_r(r_factor))


def _self_check(run: Run) -> SelfCheckView | None:
    check = run_store.self_check(run.self_check)
    if check is None:
        return None
    probe_late, far_late = (end.send_late_ms for end in check.ends)
    return SelfCheckView(
        tainted=check.tainted,
        reasons=list(check.reasons),
        probe_late_p99_ms=probe_late.p99 if probe_late else None,
        far_end_late_p99_ms=far_late.p99 if far_late else None,
        priority=check.probe.priority,
        receive_stamps=check.probe.receive_stamps,
    )
