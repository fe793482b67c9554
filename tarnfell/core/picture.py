"""What a viewer had of a video stream: which frames were shown, where the picture froze, and a score of our own.

A frame is whole when all its packets came in time. A broken frame spoils every one after it until a refresh. The score
is no standard's: it is called picture score, never MOS.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tarnfell.core import playout, streams
from tarnfell.core.playout import Playout
from tarnfell.core.streams import StreamMetrics
from tarnfell.core.trace import Bools, Ints, Trace
from tarnfell.core.video import VideoProfile

SCORE_NAME = "picture score"
STRIP_S = 12.0
"""Frame by frame it is shown for so long: where most was missed."""

DEFAULT_BUFFER_MS = 100.0
"""What a receiver of video holds back; more than for sound, because a frame takes time to arrive. A planning value."""
ENCODE_MS = 50.0
"""From the request for a refresh to its first packet, once the request has arrived. A planning value."""
UNKNOWN_ROUND_TRIP_MS = 100.0
"""Stands in where no time stamp was answered."""

MISSED_SCALE_PCT = 10.0
FROZEN_SCALE_PCT = 6.0

Refresh = Literal["requested", "interval"]


@dataclass(frozen=True)
class PictureCriterion:
    """How a stream is judged: the viewer's buffer and how a spoilt picture mends."""

    buffer_ms: float = DEFAULT_BUFFER_MS
    refresh: Refresh = "requested"
    """Requested by the receiver as soon as a frame breaks (RFC 4585 §6.3.1), or only as often as the profile has it."""
    round_trip_ms: float = UNKNOWN_ROUND_TRIP_MS
    encode_ms: float = ENCODE_MS


@dataclass(frozen=True)
class Frames:
    """Every frame up to the last one of which a packet was sent. All arrays have shape (frames,)."""

    at_us: Ints
    """When its first packet left, since the stream began; as planned for a frame of which none could be sent."""
    whole: Bools
    shown: Bools
    """Whole, and nothing it builds on was spoilt."""


@dataclass(frozen=True)
class Viewed:
    """What a viewer had of a stream: which packets came in time, and what frames they made."""

    played: Playout
    frames: Frames


@dataclass(frozen=True)
class PictureStretch:
    """So many seconds on end of a stream; the last may be shorter."""

    frames: int
    """Sent in its worst second, the earliest of those that lack most."""
    shown: int
    """Of them."""
    broken: int
    """Frames of the whole stretch."""
    lost: int
    """Packets of the whole stretch."""
    late: int


@dataclass(frozen=True)
class Picture:
    """One direction of one video stream, judged."""

    metrics: StreamMetrics
    late: int
    frames: int
    whole: int
    shown: int
    freezes: int
    frozen_ms: float
    longest_freeze_ms: float
    mean_fps: float
    worst_second_fps: int
    """Of the whole seconds; of the stream itself where it was shorter than one."""
    score: float
    """1…5, see picture_score."""


def view(trace: Trace, profile: VideoProfile, criterion: PictureCriterion) -> Viewed:
    """Play a stream. ``trace.seq`` counts packets from the stream's first."""
    played = playout.fixed(trace, criterion.buffer_ms)
    return Viewed(played, _frames(trace, played, profile, criterion))


def judge_picture(
    trace: Trace, profile: VideoProfile, criterion: PictureCriterion, viewed: Viewed | None = None
) -> Picture:
    """Stream metrics, frames and score of one stream. ``viewed`` is what ``view`` makes of it, for whoever has it."""
    viewed = viewed or view(trace, profile, criterion)
    played, frames = viewed.played, viewed.frames
    length_ms = _length_us(frames, profile) / 1000
    frozen = freezes_ms(frames, profile)
    count, shown = len(frames.shown), int(np.count_nonzero(frames.shown))
    of_frame = np.arange(count) // profile.frames_per_s
    per_second = np.bincount(of_frame[frames.shown], minlength=int(of_frame[-1]) + 1)
    whole_seconds = count // profile.frames_per_s or 1
    return Picture(
        metrics=streams.measure(trace),
        late=played.late_count,
        frames=count,
        whole=int(np.count_nonzero(frames.whole)),
        shown=shown,
        freezes=len(frozen),
        frozen_ms=float(frozen.sum()),
        longest_freeze_ms=float(frozen.max(initial=0.0)),
        mean_fps=1000 * shown / length_ms,
        worst_second_fps=int(per_second[:whole_seconds].min()),
        score=picture_score(100 * (1 - shown / count), 100 * float(frozen.sum()) / length_ms),
    )


def picture_score(missed_pct: float, frozen_pct: float) -> float:
    """From the share of frames that were not shown and the share of time the picture stood still; 1…5.

    ``1 + 4·exp(−missed/10 − frozen/6)``: our own, falling in both. Scattered missing frames are seen as jerks; the same
    number in one piece is a freeze and costs more.
    """
    return float(1 + 4 * np.exp(-missed_pct / MISSED_SCALE_PCT - frozen_pct / FROZEN_SCALE_PCT))


def _frames(trace: Trace, played: Playout, profile: VideoProfile, criterion: PictureCriterion) -> Frames:
    """Which frames were whole and which were shown.

    After a broken frame nothing is shown until a refresh that is whole: the profile's own, or, when the receiver asks
    for one, the first frame sent a round trip and the encoder's time after the last broken one. The packets of a frame
    sent on request are taken to fare as those that were really sent in its place.
    """
    frame = profile.frame_of(trace.seq)
    numbers = np.arange(int(frame[-1]) + 1)
    first = np.searchsorted(frame, numbers)
    at_us = np.where(frame[first] == numbers, trace.sent_us[first] - trace.sent_us[0], numbers * profile.frame_us)
    # A packet the sender could not send is as good as lost to its frame.
    in_time = np.bincount(frame[~played.missed], minlength=len(numbers))
    whole = in_time >= _packets_of(numbers, profile, int(trace.seq[-1]))
    return Frames(at_us, whole, whole & _mended(numbers, at_us, whole, profile, criterion))


def _packets_of(numbers: Ints, profile: VideoProfile, last_packet: int) -> Ints:
    """How many packets each frame should have; the stream's last one may have been cut short by a stop."""
    refresh, ordinary = profile.cut()
    count = np.where(numbers % profile.frames_per_refresh == 0, len(refresh), len(ordinary))
    begun = profile.packets_in(int(numbers[-1]))
    count[-1] = min(int(count[-1]), last_packet + 1 - begun)
    return np.asarray(count)


def _mended(
    numbers: Ints, at_us: Ints, whole: Bools, profile: VideoProfile, criterion: PictureCriterion
) -> NDArray[np.bool_]:
    """Whether each frame, if whole, builds on nothing spoilt."""
    place = np.arange(len(numbers))
    broken = np.maximum.accumulate(np.where(whole, -1, place))
    refreshed = np.maximum.accumulate(np.where(numbers % profile.frames_per_refresh == 0, place, -1))
    mended = (broken < 0) | (refreshed > broken)
    if criterion.refresh == "requested":
        wait_us = (criterion.round_trip_ms + criterion.encode_ms) * 1000
        mended |= at_us - at_us[np.maximum(broken, 0)] >= wait_us
    return np.asarray(mended)


def freezes_ms(frames: Frames, profile: VideoProfile) -> NDArray[np.float64]:
    """How long the picture stood still, each time it did.

    One frame standing for three times its due, or for 150 ms beyond it, whichever is longer, is a freeze: the rule of
    freezeCount in WebRTC's statistics (W3C webrtc-stats), with the profile's frame interval as the due.
    """
    due_ms = profile.frame_us / 1000
    ends = np.append(frames.at_us[frames.shown], _length_us(frames, profile))
    stood = np.diff(ends, prepend=0) / 1000
    return np.asarray(stood[stood >= max(3 * due_ms, due_ms + 150)])


def picture_stretches(trace: Trace, profile: VideoProfile, viewed: Viewed, length: int) -> list[PictureStretch]:
    """A stream in stretches of ``length`` seconds; the frames of a second, and their packets, are those due in it."""
    frames = viewed.frames
    second = profile.frame_of(trace.seq) // profile.frames_per_s
    of_frame = np.arange(len(frames.whole)) // profile.frames_per_s
    count = int(of_frame[-1]) + 1
    sent, shown = np.bincount(of_frame, minlength=count), np.bincount(of_frame[frames.shown], minlength=count)
    begin = np.arange(0, count, length)
    short = np.diff(begin, append=count)
    lacking = sent - shown
    most = np.repeat(np.maximum.reduceat(lacking, begin), short)
    worst = np.flatnonzero(lacking == most)
    worst = worst[np.searchsorted(worst, begin)]
    columns = (
        sent[worst],
        shown[worst],
        *(
            np.add.reduceat(np.bincount(marked, minlength=count), begin)
            for marked in (of_frame[~frames.whole], second[~trace.arrived], second[viewed.played.late])
        ),
    )
    return [PictureStretch(*row) for row in zip(*(column.tolist() for column in columns), strict=True)]


def worst_stretch(frames: Frames, count: int) -> int:
    """The first of ``count`` frames in a row, of which most were not shown; the earliest of several such."""
    missed = np.concatenate([[0], np.cumsum(~frames.shown)])
    count = min(count, len(frames.shown))
    return int(np.argmax(missed[count:] - missed[: len(missed) - count]))


def fates(frames: Frames, first: int, count: int) -> str:
    """A letter for each of ``count`` frames: s, shown; o, whole but building on something broken; b, broken."""
    part = slice(first, first + count)
    codes = np.where(frames.shown[part], "s", np.where(frames.whole[part], "o", "b"))
    return "".join(codes.tolist())


def _length_us(frames: Frames, profile: VideoProfile) -> int:
    """The last frame stands for its due."""
    return int(frames.at_us[-1]) + profile.frame_us
