"""One video stream looked at closely, judged by the viewer's buffer and the way of mending that a person chose."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.core.closeup import stretch_length
from tarnfell.core.directions import PictureFigures
from tarnfell.core.picture import (
    DEFAULT_BUFFER_MS,
    STRIP_S,
    PictureCriterion,
    PictureStretch,
    Refresh,
    Viewed,
    fates,
    picture_stretches,
    view,
    worst_stretch,
)
from tarnfell.core.trace import Trace
from tarnfell.core.video import VideoProfile
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import videos as video_store
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.store.videos import StoredVideo
from tarnfell.work.answers import Answers
from tarnfell.work.closeup.look import Look
from tarnfell.work.closeup.sounds import with_media_first
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import flowing, packets_in, picture_criterion
from tarnfell.work.ingest.pictures import JudgedStream, judge_stream, profile_of
from tarnfell.work.judging.run import why_picture


@dataclass(frozen=True)
class FrameStrip:
    """The frames of a few seconds, in which a viewer missed most."""

    first: int
    """From 0."""
    came: str
    """A letter a frame: s, shown; o, whole but building on something broken; b, broken."""
    media_first: str | None
    """As it would have been had media been sent first; null where no queue stands."""


@dataclass(frozen=True)
class PictureSide:
    """One direction."""

    figures: PictureFigures
    why: str
    seconds: int = 0
    stretch_s: int = 1
    """Seconds of each of ``stretches``, but for the last, which may be shorter."""
    stretches: tuple[PictureStretch, ...] = ()
    strip: FrameStrip | None = None
    """None where nothing is known of what was sent."""


@dataclass(frozen=True)
class VideoCloseUp:
    up: PictureSide | None
    """None for a direction in which nothing was to flow."""
    down: PictureSide | None


@dataclass(frozen=True)
class VideoChoice:
    """What a person may choose; as it stands the usual viewer."""

    buffer_ms: float = DEFAULT_BUFFER_MS
    refresh: Refresh = "requested"


@dataclass(frozen=True)
class VideoLook(Look[VideoCloseUp]):
    """A stream, and how it is to be judged."""

    at_once = 60_000
    """Of a stream they are judged faster: by fixed buffers alone."""

    stream: StoredVideo
    run: Run
    site: Site
    choice: VideoChoice
    profile: VideoProfile
    criterion: PictureCriterion

    @property
    def number(self) -> int:
        return self.stream.id

    @property
    def packets(self) -> int:
        return packets_in(self.stream.record)

    @property
    def depends_on(self) -> object:
        return self.criterion, self.stream.relation, self.site.up_kbps, self.site.down_kbps

    def answer(self) -> VideoCloseUp:
        """Whatever time it takes. Raises WireError."""
        record, relation = self.stream.record, relation_of(self.stream)
        sides = {way: _side(judge_stream(record, way, relation, self.criterion), self, way) for way in flowing(record)}
        return VideoCloseUp(sides.get("up"), sides.get("down"))


def look_at_video(db: sqlite3.Connection, stream: StoredVideo, choice: VideoChoice) -> VideoLook:
    """Raises WireError."""
    run = run_store.run_by_id(db, stream.run_id)
    return VideoLook(
        stream=stream,
        run=run,
        site=site_store.site_by_id(db, run.site_id),
        choice=choice,
        profile=profile_of(stream.record),
        criterion=picture_criterion(stream.clock, buffer_ms=choice.buffer_ms, refresh=choice.refresh),
    )


def _found(db: sqlite3.Connection, number: int, choice: VideoChoice) -> VideoLook:
    return look_at_video(db, video_store.video_by_id(db, number), choice)


VIDEOS = Answers("close-up of a video stream", VideoCloseUp, VideoChoice, _found)


def _side(judged: JudgedStream, look: VideoLook, way: str) -> PictureSide:
    figures = judged.figures
    why = figures.reason or why_picture(figures)
    if judged.trace is None or judged.viewed is None:
        return PictureSide(figures, why)
    seconds = -(-len(judged.viewed.frames.shown) // look.profile.frames_per_s)
    length = stretch_length(seconds)
    return PictureSide(
        figures,
        why,
        seconds=seconds,
        stretch_s=length,
        stretches=tuple(picture_stretches(judged.trace, look.profile, judged.viewed, length)),
        strip=_strip(judged.trace, judged.viewed, look, way),
    )


def _strip(trace: Trace, viewed: Viewed, look: VideoLook, way: str) -> FrameStrip:
    count = round(STRIP_S * look.profile.frames_per_s)
    first = worst_stretch(viewed.frames, count)
    mended = with_media_first(trace, look.site, way)
    return FrameStrip(
        first=first,
        came=fates(viewed.frames, first, count),
        media_first=fates(view(mended, look.profile, look.criterion).frames, first, count)
        if mended is not None
        else None,
    )
