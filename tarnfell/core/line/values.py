"""What filling a line comes to: figures of each phase, causes, and the picture over time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from tarnfell.core.causes import CauseKey, LegName
from tarnfell.wire.kinds.fill import Way

Side = Literal["up", "down"]
Limit = Literal["network", "sender", "receiver", "ceiling"]
SIDES: tuple[Side, Side] = ("up", "down")


@dataclass(frozen=True)
class FillLimits:
    """What counts as healthy, and what the line must carry. 0: not known."""

    target_mos: float = 4.0
    need_kbps: float = 0.0
    """Each way, at IP: the calls that the site needs at once."""
    up_kbps: float = 0.0
    """Of the line, as it was sold."""
    down_kbps: float = 0.0

    def line_kbps(self, side: Side) -> float:
        return self.up_kbps if side == "up" else self.down_kbps


@dataclass(frozen=True, kw_only=True)
class SideFigures:
    """One direction in one phase. None where nothing was measured of it."""

    throughput_kbps: float | None = None
    """Goodput of the TCP streams, of their steady part."""
    throughput_ip_kbps: float | None = None
    """The same with TCP's and IP's heads."""
    loss_pct: float | None = None
    """Of the unmarked call's packets."""
    delay_added_p50_ms: float | None = None
    """One way, of the unmarked call: above its median while the line was idle."""
    delay_added_p95_ms: float | None = None
    standing_ms: float | None = None
    """Median of the same above the least of the whole run: what stands in the way of every packet."""
    mos: float | None = None
    """Of the unmarked call."""
    mos_marked: float | None = None
    marked_added_p50_ms: float | None = None
    """As ``delay_added_p50_ms``, of the marked call."""
    marking_kept_pct: float | None = None
    """Of the marked call's packets, as far as the system tells."""
    retransmitted_pct: float | None = None
    """Of the bytes that TCP sent."""
    tcp_queued_ms: float | None = None
    """What TCP's own round trip gained: its packets can queue where those of calls do not."""
    congestion: str | None = None
    """The congestion control that filled the line."""
    limited_by: Limit | None = None
    """What kept the streams from being faster."""
    filled: bool | None = None
    """Whether the line was full, as far as can be told; None where this direction was not filled."""


@dataclass(frozen=True, kw_only=True)
class PhaseFigures:
    way: Way
    from_s: float
    until_s: float
    """Since the run began."""
    exchanges: int
    """Time stamps answered."""
    rtt_p50_ms: float | None
    rtt_p95_ms: float | None
    added_delay_p50_ms: float | None
    """Round trip above its median while the line was idle."""
    added_delay_p95_ms: float | None
    rpm: float | None
    """Round trips a minute, at the median."""
    up: SideFigures
    down: SideFigures
    failure: str | None = None

    def side(self, side: Side) -> SideFigures:
        return self.up if side == "up" else self.down

    @property
    def filled(self) -> tuple[SideFigures, ...]:
        """The directions that were filled."""
        return tuple(one for one in (self.up, self.down) if one.filled is not None)

    @property
    def mos_loaded(self) -> float | None:
        """Of the unmarked call, in the worse of the directions filled."""
        return min((one.mos for one in self.filled if one.mos is not None), default=None)

    @property
    def mos_marked(self) -> float | None:
        return min((one.mos_marked for one in self.filled if one.mos_marked is not None), default=None)

    @property
    def loss_pct(self) -> float | None:
        return max((one.loss_pct for one in self.filled if one.loss_pct is not None), default=None)


@dataclass(frozen=True)
class LineCause:
    """A cause, with what was seen, what else was considered, what mends it and who does that."""

    key: CauseKey
    leg: LegName
    direction: Side
    title: str
    says: str
    alternatives: tuple[str, ...]
    remedy: str
    who: str


@dataclass(frozen=True)
class Instant:
    """A tenth of a second of the run, for the picture."""

    at_s: float
    rtt_ms: float | None = None
    """Largest."""
    up_ms: float | None = None
    """Largest one-way delay of the unmarked call, above its least."""
    down_ms: float | None = None
    up_marked_ms: float | None = None
    down_marked_ms: float | None = None


@dataclass(frozen=True)
class SecondMos:
    """Each second of the run: the unmarked call and the marked one."""

    at_s: float
    up: float | None
    down: float | None
    up_marked: float | None
    down_marked: float | None


@dataclass(frozen=True)
class LineFilled:
    phases: tuple[PhaseFigures, ...]
    causes: tuple[LineCause, ...]
    says: tuple[str, ...]
    """What it means, a sentence each."""
    spoiled: tuple[str, ...]
    """How an end disturbed its own measurement: it is shown, and counts into nothing."""
    moved_bytes: int
    """By the streams, both directions."""
    instants: tuple[Instant, ...]
    seconds: tuple[SecondMos, ...]

    def phase(self, way: Way) -> PhaseFigures | None:
        return next((one for one in self.phases if one.way == way), None)
