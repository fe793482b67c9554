"""One video stream's record judged."""

from __future__ import annotations

import json
from dataclasses import asdict
from typing import Any

from tarnfell.core.clock import ClockRelation
from tarnfell.core.picture import Picture, PictureCriterion, judge_picture
from tarnfell.core.video import VideoError, VideoProfile, find_profile
from tarnfell.store.videos import COLUMNS, JudgedVideo
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

_COUNTS = ("sent", "received", "lost", "loss_pct", "late", "reordered", "duplicates", "frames", "whole", "shown",
           "freezes", "frozen_ms", "longest_freeze_ms")  # fmt: skip


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
            direction: picture_columns(record, direction, relation, criterion) for direction in flowing(record)
        },
    )


def picture_columns(
    record: Record, direction: str, relation: ClockRelation, criterion: PictureCriterion
) -> dict[str, Any]:
    """One direction judged, by the names of the columns. Raises WireError."""
    about = record.meta.get(direction)
    if not isinstance(about, dict):
        raise WireError(f"Packet record: nothing about the direction {direction}.")
    marks = dscp_counts(record, direction)
    values: dict[str, Any] = dict.fromkeys(COLUMNS) | dict.fromkeys(_COUNTS, 0) | {
        "ssrc": int(about.get("ssrc", 0)),
        "dscp_sent": int(about.get("dscp_sent", 0)),
        "dscp_received": json.dumps(marks),
    }  # fmt: skip
    # Frames are not planned evenly: without the sender's own record what was due cannot be told.
    trace = None if half_of(record) else trace_of(record, direction, relation)
    if trace is None:
        return values | {"reason": why_no_trace(record)}
    judged = judge_picture(trace, profile_of(record), criterion)
    fields = _flat(judged)
    if not known_delay(relation):
        fields["delay_p50_ms"] = None
    values |= {name: fields[name] for name in COLUMNS if name in fields}
    return values | {"reason": None if judged.metrics.received else "Nothing arrived."}


def _flat(judged: Picture) -> dict[str, Any]:
    flat = asdict(judged)
    return {**flat.pop("metrics"), **flat}
