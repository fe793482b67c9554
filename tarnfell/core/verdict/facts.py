"""What is known of each call and video stream, one direction a fact, and the brief it is held against.

A fact is small and already judged from packets; nothing beyond this room's door looks at packets again. Each carries
the probe and the far end it was measured between: two test points are two ways, not one that changes.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

from tarnfell.core.causes import Direction
from tarnfell.core.targets import Targets
from tarnfell.core.verdict.moments import Moment, moments_between

_covered = lru_cache(maxsize=1 << 16)(moments_between)
"""Both directions of a call ask for the same, and all calls of a run."""

Outcome = Literal["whole", "cut", "not placed"]
"""How a call went: to its end, broken off by what it was to measure, or never begun for that reason."""

Blame = Literal["far end", "site", "unknown"]
"""Which side of a broken call was away: told apart by whether the server could be reached at that instant."""

MIN_CALL_S = 10.0
"""A shorter call counts into nothing: below 500 packets of 20 ms one loss is 0.2 %, the listener's buffer has not
settled, and the shortest outage that hurts (ten seconds) does not fit in. One that was cut counts all the same."""


@dataclass(frozen=True, kw_only=True)
class Brief(Targets):
    """What the site must carry: concurrent calls, what makes one acceptable, and how much evidence is asked for."""

    needed_calls: int
    video: bool = False
    """Whether it must carry video as well."""
    up_kbps: int | None = None
    down_kbps: int | None = None
    call_kbps: float | None = None
    """One call's rate each way on the site's line, with RTCP."""
    switches_by: str = ""
    firewall_by: str = ""
    line_by: str = ""

    def line_kbps(self, direction: Direction) -> int | None:
        return self.up_kbps if direction == "up" else self.down_kbps


@dataclass(frozen=True, kw_only=True, slots=True)
class CallFact:
    """One direction of one call. Times are the site's own. None: not known."""

    call_id: int
    run_id: int
    direction: Direction
    day: str
    """ISO date at the site."""
    minute: float
    """Of the site's day, 0…1440."""
    seconds: float
    """How long the call lasted."""
    busy: bool
    """Within the site's business hours."""
    concurrent: int
    """Calls held at once in its run."""
    sent: int
    received: int
    loss_pct: float | None
    late_pct: float | None
    burst_ratio: float
    mos: float | None
    """None where nothing arrived. With an unknown delay it is what the call had at best."""
    worst_stretch_mos: float | None
    """Of the worst ten seconds; None where nothing arrived."""
    delay_p50_ms: float | None
    mouth_to_ear_ms: float | None
    """None where the delay is not known."""
    pdv_p50_ms: float | None
    pdv_p95_ms: float | None
    pdv_p99_ms: float | None
    jitter_ms: float
    dscp_sent: int
    dscp_kept_pct: float | None
    tainted: bool
    clock_set: bool = False
    """Tainted because an end's clock was set during the run."""
    one_way: bool = False
    """Placed in this direction alone: it tells of the way, not of a whole call."""
    outcome: Outcome = "whole"
    reason: str = ""
    """Why it was cut or not placed, as the probe told it."""
    blame: Blame = "unknown"
    probe_id: int = 0
    far_end_id: int = 0
    wireless: bool = False
    """The probe stood on a radio link."""
    ie: float = 0.0
    bpl: float = 25.1
    """Of the codec it was judged by; they weigh loss against delay."""

    @property
    def moments(self) -> tuple[Moment, ...]:
        return _covered(self.day, self.minute, self.seconds)

    @property
    def silent(self) -> bool:
        """Media was to flow and nothing arrived, whether it never began or was dropped on the way."""
        return self.outcome != "not placed" and self.received == 0


@dataclass(frozen=True, kw_only=True, slots=True)
class VideoFact:
    """One direction of one video stream. Times are the site's own."""

    stream_id: int
    run_id: int
    direction: Direction
    day: str
    minute: float
    seconds: float
    busy: bool
    frames: int
    whole: int
    lost: int
    late: int
    freezes: int
    frozen_ms: float
    worst_second_fps: int | None
    score: float | None
    """None where nothing was sent."""
    tainted: bool
    one_way: bool = False

    @property
    def moments(self) -> tuple[Moment, ...]:
        return _covered(self.day, self.minute, self.seconds)
