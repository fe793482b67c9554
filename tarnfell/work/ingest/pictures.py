"""One video stream's record judged."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

from tarnfell.core.clock import ClockRelation
from tarnfell.core.directions import PictureFigures
from tarnfell.core.picture import PictureCriterion, Viewed, judge_picture, view
from tarnfell.core.trace import Trace
from tarnfell.core.video import VideoError, VideoProfile, find_profile
from tarnfell.store.videos import JudgedVideo
from tarnfell.wire import WireError
from tarnfell.wire.record import Record
from tarnfell.work.ingest.packets import (
    dscp_counts,
    flowing,
    half_of,
    known_delay,
    parse_checked,
    trace_of,
    which_and_when,
    why_no_trace,
)


def profile_of(record: Record) -> VideoProfile:
    """Raises WireError."""
    try:
        return find_profile(str(record.meta.get("profile")))
    except VideoError as error:
        raise WireError(f"Packet record: {error}") from None


def judge_video(part: bytes, relation: ClockRelation, criterion: PictureCriterion) -> JudgedVideo:
    """One stream's record judged. Raises WireError."""
    record = parse_checked(part)
    number, started_us = which_and_when(record, "video")
    return JudgedVideo(
        number=number,
        profile=profile_of(record).name,
        started_us=started_us,
        record=part,
        directions={
            direction: picture_figures(record, direction, relation, criterion) for direction in flowing(record)
        },
    )


@dataclass(frozen=True)
class JudgedStream:
    """One direction of one stream."""

    figures: PictureFigures
    trace: Trace | None
    """None when nothing was sent, or what was sent is not known; ``viewed`` as well."""
    viewed: Viewed | None


def judge_stream(record: Record, direction: str, relation: ClockRelation, criterion: PictureCriterion) -> JudgedStream:
    """One direction judged. Raises WireError."""
    about = record.meta.get(direction)
    if not isinstance(about, dict):
        raise WireError(f"Packet record: nothing about the direction {direction}.")
    figures = PictureFigures(
        ssrc=int(about.get("ssrc", 0)),
        dscp_sent=int(about.get("dscp_sent", 0)),
        dscp_received=dscp_counts(record, direction),
    )
    # Frames are not planned evenly: without the sender's own record what was due cannot be told.
    trace = None if half_of(record) else trace_of(record, direction, relation)
    if trace is None:
        return JudgedStream(replace(figures, reason=why_no_trace(record)), None, None)
    profile = profile_of(record)
    viewed = view(trace, profile, criterion)
    picture = judge_picture(trace, profile, criterion, viewed)
    judged = {**vars(picture.metrics), **vars(picture)}
    found = {f.name: judged[f.name] for f in fields(PictureFigures) if f.name in judged}
    if not known_delay(relation):
        found["delay_p50_ms"] = None
    reason = None if picture.metrics.received else "Nothing arrived."
    return JudgedStream(replace(figures, **found, reason=reason), trace, viewed)


def picture_figures(
    record: Record, direction: str, relation: ClockRelation, criterion: PictureCriterion
) -> PictureFigures:
    """What ``judge_stream`` makes of it, in figures. Raises WireError."""
    return judge_stream(record, direction, relation, criterion).figures
