"""Video streams: what came of those of a run, and one of them down to its frames, judged again as asked."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, g

from tarnfell.core.picture import (
    SCORE_NAME,
    STRIP_S,
    PictureCriterion,
    fates,
    frames_of,
    picture_seconds,
    worst_stretch,
)
from tarnfell.core.targets import Targets
from tarnfell.core.trace import Trace
from tarnfell.core.tracefile import csv_parts
from tarnfell.core.video import VideoProfile, find_profile
from tarnfell.server.access import require_video
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.models.runs import VideoLine
from tarnfell.server.load.models.videos import FrameStrip, PictureSide, VideoPage, VideoQuery
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import videos as video_store
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.store.videos import StoredVideo
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import DIRECTIONS, flowing, picture_criterion, trace_of
from tarnfell.work.ingest.pictures import picture_figures, profile_of
from tarnfell.work.judging.run import good_streams, why_picture
from tarnfell.work.judging.sounds import with_media_first

blueprint = Blueprint("videos", __name__)


@endpoint(blueprint, "GET", "/api/videos/<int:stream_id>", response=VideoPage)
def show_video(stream_id: int, query: VideoQuery) -> VideoPage:
    """One video stream, judged with the asked-for buffer and way of mending."""
    stream = require_video(stream_id)
    run = run_store.run_by_id(g.db, stream.run_id)
    check = run_store.self_check(run.self_check)
    site = site_store.site_by_id(g.db, run.site_id)
    profile = profile_of(stream.record)
    criterion = picture_criterion(stream.clock, buffer_ms=query.buffer_ms, refresh=query.refresh)
    sides = {d: _side(stream, site, d, profile, criterion) for d in flowing(stream.record)}
    local = datetime.fromtimestamp(stream.started_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    return VideoPage(
        id=stream.id,
        number=stream.number,
        run_id=run.id,
        site_slug=site.slug,
        site_name=site.name,
        started_local=local.strftime("%a %d %b %Y %H:%M:%S"),
        profile_title=profile.title,
        width=profile.width,
        height=profile.height,
        frames_per_s=profile.frames_per_s,
        kbps=profile.kbps,
        refresh_s=profile.refresh_s,
        buffer_ms=criterion.buffer_ms,
        refresh=criterion.refresh,
        mends_after_ms=criterion.round_trip_ms + criterion.encode_ms,
        score_name=SCORE_NAME,
        target_picture=site.target_picture,
        tainted=list(check.reasons if check else ()),
        up=sides.get("up"),
        down=sides.get("down"),
    )


@endpoint(blueprint, "GET", "/api/videos/<int:stream_id>/<direction>.csv", produces="text/csv")
def export_video_trace(stream_id: int, direction: str) -> Response:
    """One direction's packets in the open CSV form."""
    stream = require_video(stream_id)
    trace = trace_of(stream.record, direction, relation_of(stream)) if direction in DIRECTIONS else None
    if trace is None:
        raise Problem(404, "Nothing was sent in that direction.")
    response = Response(csv_parts(trace), mimetype="text/csv")
    response.headers["Content-Disposition"] = f'attachment; filename="video{stream_id}-{direction}.csv"'
    return response


def video_lines(db: sqlite3.Connection, run: Run, targets: Targets) -> list[VideoLine]:
    """The streams of a run that is done."""
    pictures = video_store.pictures_of_run(db, run.id)
    good = good_streams(pictures, targets)
    lines: dict[int, VideoLine] = {}
    for one in pictures:
        profile = find_profile(one.profile)
        line = lines.setdefault(
            one.stream_id,
            VideoLine(
                id=one.stream_id,
                number=one.number,
                title=profile.title,
                frames_per_s=profile.frames_per_s,
                good=good[one.stream_id],
                up=None,
                down=None,
            ),
        )
        setattr(line, one.direction, one.figures)
    return list(lines.values())


def _side(
    stream: StoredVideo, site: Site, direction: str, profile: VideoProfile, criterion: PictureCriterion
) -> PictureSide:
    relation = relation_of(stream)
    figures = picture_figures(stream.record, direction, relation, criterion)
    trace = trace_of(stream.record, direction, relation)
    return PictureSide(
        figures=figures,
        why=figures.reason or why_picture(figures),
        seconds=picture_seconds(trace, profile, criterion) if trace is not None else [],
        strip=_strip(trace, site, direction, profile, criterion) if trace is not None else None,
    )


def _strip(trace: Trace, site: Site, direction: str, profile: VideoProfile, criterion: PictureCriterion) -> FrameStrip:
    frames = frames_of(trace, profile, criterion)
    count = round(STRIP_S * profile.frames_per_s)
    first = worst_stretch(frames, count)
    mended = with_media_first(trace, site, direction)
    return FrameStrip(
        first=first,
        came=fates(frames, first, count),
        media_first=fates(frames_of(mended, profile, criterion), first, count) if mended is not None else None,
    )
