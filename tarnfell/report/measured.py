"""What was measured at a site beside the verdict, in figures: for a report's tables, and for programs."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.causes import Direction
from tarnfell.core.check.values import State
from tarnfell.core.rates import Flow


@dataclass(frozen=True)
class CheckAnswer:
    """What came of one question of a check."""

    title: str
    answer: State
    says: str


@dataclass(frozen=True)
class ServiceAnswer:
    name: str
    host: str
    port: int
    protocol: str
    answer: str
    took_ms: float | None
    """None where nothing came back."""
    says: str


@dataclass(frozen=True)
class CheckFound:
    """The newest check that came to its end."""

    at_local: str
    """In site time, as 2026-11-25T09:00."""
    questions: tuple[CheckAnswer, ...]
    services: tuple[ServiceAnswer, ...]


@dataclass(frozen=True)
class MarkingFound:
    """Calls of one direction sent with one marking, as far as it was seen on arrival."""

    direction: Direction
    dscp_sent: int
    calls: int
    kept_throughout: int
    """Calls of which every packet kept it."""
    kept_pct: float
    """Packets that kept it, the mean of the calls."""


@dataclass(frozen=True)
class FillFound:
    """One direction of the line while it was filled; of MOS that were not measured, None."""

    at_local: str
    direction: Direction
    full: bool
    """Whether it was seen to be."""
    mos_idle: float | None
    mos: float | None
    mos_marked: float | None
    """Of the call that was marked."""


@dataclass(frozen=True)
class VideoFound:
    """Streams of one direction; those that an end spoiled are left out."""

    direction: Direction
    streams: int
    good: int
    """That reach the score which the brief requires."""
    score_p50: float
    frames: int
    frames_whole: int
    frozen_ms: float


@dataclass(frozen=True)
class RunsAlike:
    """Runs that were carried out with the same settings."""

    probe: str
    far_end: str
    calls: int
    direction: Flow
    with_video: bool
    codec: str
    codec_title: str
    ptime_ms: int
    seconds: float
    dscp: int
    runs: int
    first_day: str
    """In site time, as 2026-11-25."""
    last_day: str


@dataclass(frozen=True)
class Measured:
    """Nothing of what was not done."""

    check: CheckFound | None = None
    marking: tuple[MarkingFound, ...] = ()
    fills: tuple[FillFound, ...] = ()
    """Newest first."""
    video: tuple[VideoFound, ...] = ()
    runs: tuple[RunsAlike, ...] = ()
    """Those placed most often first."""


NOT_MEASURED = Measured()
