"""A load between form, core and sentence: the ways media flows, video beside the calls, and what it all is in words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from tarnfell.core.rates import Flow, Shape, VideoLoad, video_rate
from tarnfell.core.video import find_profile
from tarnfell.server.load.models.runs import VideoLoadForm, VideoLoadView
from tarnfell.store.runs import Run

FLOW_WORDS: dict[Flow, str] = {"both": "", "up": "up only", "down": "down only"}


def video_loads(forms: Iterable[VideoLoadForm]) -> tuple[VideoLoad, ...]:
    return tuple(VideoLoad(**form.model_dump()) for form in forms)


def video_views(loads: Iterable[VideoLoad]) -> list[VideoLoadView]:
    return [
        VideoLoadView(profile=v.profile, title=find_profile(v.profile).title, streams=v.streams, dscp=v.dscp)
        for v in loads
    ]


def expected_video_rate(run: Run) -> float:
    """Packets a second of all video streams in one direction, in the mean."""
    return sum(v.streams * video_rate(find_profile(v.profile)).packets_per_s for v in run.video)


def video_words(loads: Sequence[VideoLoad]) -> str:
    """Such as “2 × 720p at 30”; empty without video."""
    return ", ".join(f"{v.streams} × {find_profile(v.profile).title}" for v in loads)


def load_words(shape: Shape, direction: Flow = "both", video: Sequence[VideoLoad] = ()) -> str:
    if len(shape.steps) == 1:
        what = f"{shape.steps[0]} {'call' if shape.steps[0] == 1 else 'calls'} held"
    else:
        what = f"{shape.steps[0]} to {shape.steps[-1]} calls in {len(shape.steps)} steps"
    rounds = "" if shape.rounds == 1 else f", {shape.rounds} rounds"
    beside = f", beside {video_words(video)}" if video else ""
    way = "" if direction == "both" else f", {FLOW_WORDS[direction]}"
    return f"{what}, {shape.call_s:g} s each{rounds}{beside}{way}"
