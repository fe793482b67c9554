"""Video streams: what came of those of a run, and one of them down to its frames, judged again as asked."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, g

from tarnfell.core.picture import SCORE_NAME
from tarnfell.core.targets import Targets
from tarnfell.core.video import find_profile
from tarnfell.server.access import require_video
from tarnfell.server.http.api import endpoint
from tarnfell.server.load.awaited import judged_lately, packets_asked, packets_response
from tarnfell.server.load.models.calls import Awaited, PacketsForm
from tarnfell.server.load.models.runs import VideoLine
from tarnfell.server.load.models.videos import VideoPage, VideoQuery
from tarnfell.server.report.models.documents import DocumentView
from tarnfell.store import runs as run_store
from tarnfell.store import videos as video_store
from tarnfell.store.runs import Run
from tarnfell.work.closeup.video import VIDEOS, VideoChoice, look_at_video
from tarnfell.work.judging.run import good_streams

blueprint = Blueprint("videos", __name__)


@endpoint(blueprint, "GET", "/api/videos/<int:stream_id>", response=VideoPage)
def show_video(stream_id: int, query: VideoQuery) -> VideoPage:
    """One video stream, judged with the asked-for buffer and way of mending; a long one as soon as the clerk has."""
    stream = require_video(stream_id)
    look = look_at_video(g.db, stream, VideoChoice(query.buffer_ms, query.refresh))
    run, site, profile, criterion = look.run, look.site, look.profile, look.criterion
    check = run_store.self_check(run.self_check)
    found = judged_lately(VIDEOS, look)
    awaited = found if isinstance(found, Awaited) else None
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
        long=look.is_long,
        awaited=awaited,
        up=None if isinstance(found, Awaited) else found.up,
        down=None if isinstance(found, Awaited) else found.down,
    )


@endpoint(blueprint, "GET", "/api/videos/<int:stream_id>/<direction>.csv", produces="text/csv")
def export_video_trace(stream_id: int, direction: str) -> Response:
    """One direction's packets in the open CSV form; those of a long stream are asked for instead."""
    stream = require_video(stream_id)
    return packets_response(look_at_video(g.db, stream, VideoChoice()), stream, direction, f"video{stream_id}")


@endpoint(blueprint, "POST", "/api/videos/<int:stream_id>/packets", response=DocumentView)
def ask_for_video_packets(stream_id: int, body: PacketsForm) -> DocumentView:
    """Have the packets of one direction of a video stream written down as CSV."""
    return packets_asked(require_video(stream_id), body.direction)


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
