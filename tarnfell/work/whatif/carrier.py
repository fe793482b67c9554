"""Packets as they would have come: which queue they met, on which leg, and what a change makes of it."""

from __future__ import annotations

import math
import sqlite3
from bisect import bisect_left
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from tarnfell.core.causes import Direction, LegName
from tarnfell.core.trace import Trace
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.whatif.change import LINE_FACTORS, Change
from tarnfell.core.whatif.queues import Queue, queue_of
from tarnfell.core.whatif.remedies import larger_line, media_first
from tarnfell.store import watches as watch_store
from tarnfell.store.sites import Site
from tarnfell.work.watch.reading import kept_reading

LOW = 0.2
"""Below this part of a flow's highest queue a loss is none of the queue's."""
QUEUE_CAUSES = ("uplink-queue", "downlink-queue", "delay-swings", "inside-congested", "beyond-congested")
INSIDE_KBPS = 100_000.0
"""Of a switch's port, at least: what a full packet takes there is nothing beside a buffer."""


@dataclass(frozen=True)
class Flow:
    """One direction of a call or of a video stream: where and when."""

    direction: Direction
    probe_id: int
    started_us: int
    seconds: float
    calm_ms: float | None = None
    """What the way has without a queue, where that is known."""


@dataclass
class Background:
    """What one direction loses while its queue is low: as much is lost while it is full, for the same reason."""

    sent: int = 0
    lost: int = 0
    full_sent: int = 0
    full_lost: int = 0

    def add(self, trace: Trace, queue: Queue) -> None:
        low = queue.wait_ms < LOW * queue.wait_ms.max()
        self.sent += int(low.sum())
        self.lost += int((low & ~trace.arrived).sum())
        self.full_sent += int(queue.full.sum())
        self.full_lost += int((queue.full & ~trace.arrived).sum())

    @property
    def least_mended(self) -> float:
        """Of what was lost in a full queue, the part that is surely the queue's: the rest may be lost without one as
        often as the rule of three and the losses seen allow (95 %)."""
        if not self.full_lost or not self.sent:
            return 0.0
        most = (self.lost + 2 * math.sqrt(self.lost) + 3) / self.sent
        return max(0.0, 1.0 - most * self.full_sent / self.full_lost)


@dataclass
class Tally:
    """What was done to how many directions."""

    judged: int = 0
    """Anew."""
    left: int = 0
    """That could not be: they were cut, or nothing of them came."""
    mended: Counter[LegName] = field(default_factory=Counter)
    """Whose queue was on a leg that the change mends."""
    unknown: int = 0
    """With a queue of which the leg is not known: mended at best."""
    elsewhere: int = 0
    """Whose queue was on a leg that the change leaves as it is."""


def touches(change: Change, way: Direction) -> bool:
    """Whether packets of that direction may come otherwise."""
    return change.first_inside or change.mends_line(way)


class Legs:
    """On which leg a queue was: as a watch saw it then, else as all evidence tells of that direction."""

    def __init__(self, db: sqlite3.Connection, site: Site, causes: Sequence[Cause]) -> None:
        self._causes = [one for one in causes if one.key in QUEUE_CAUSES]
        self._episodes = sorted(
            (one.from_us, one.until_us, watch.probe_id, one.leg, one.direction)
            for watch in watch_store.watches_of(db, site.id)
            if (reading := kept_reading(db, watch.id))
            for one in reading.episodes
            if one.kind != "outage"
        )
        self._longest_us = max((until - begin for begin, until, *_ in self._episodes), default=0)
        self._begins = [begin for begin, *_ in self._episodes]

    def of(self, flow: Flow) -> tuple[LegName, bool]:
        """And whether the watch of its probe saw it at that time."""
        until_us = flow.started_us + int(flow.seconds * 1e6)
        first = bisect_left(self._begins, flow.started_us - self._longest_us)
        last = bisect_left(self._begins, until_us)
        seen = {
            leg
            for _, until, probe_id, leg, way in self._episodes[first:last]
            if until > flow.started_us and probe_id == flow.probe_id and way in (flow.direction, "both", None)
        }
        watched = bool(seen)
        if not seen:
            seen = {one.leg for one in self._causes if one.direction in (flow.direction, "both")}
        return seen.pop() if len(seen) == 1 else "unknown", watched


class Carrier:
    """``site`` has the line that is asked about. What is lost without a queue is learnt first, from all that lost
    packets; then each direction is carried."""

    def __init__(self, db: sqlite3.Connection, site: Site, change: Change, causes: Sequence[Cause]) -> None:
        self._change, self._site = change, site
        self._legs = Legs(db, site, causes) if change.touches_queues else None
        self._background: dict[Direction, Background] = {"up": Background(), "down": Background()}
        self.tally = Tally()

    def learn(self, way: Direction, trace: Trace) -> None:
        queue = queue_of(trace)
        if queue and queue.stands:
            self._background[way].add(trace, queue)

    def carried(self, flow: Flow, trace: Trace) -> tuple[Trace, Trace]:
        """At least and at best; the trace itself where nothing of it changes."""
        if self._legs is None:
            return trace, trace
        way, tally = flow.direction, self.tally
        leg, watched = self._legs.of(flow)
        queue = queue_of(trace, flow.calm_ms if watched else None)
        if queue is None or not queue.stands:
            return trace, trace
        line, inside = self._change.mends_line(way), self._change.first_inside
        if leg in ("inside", "line", "beyond"):
            if not (line if leg == "line" else inside and leg == "inside"):
                tally.elsewhere += 1
                return trace, trace
            tally.mended[leg] += 1
            sure = self._background[way].least_mended
            return (
                self._mended(way, trace, queue, leg == "line", sure, LINE_FACTORS[0]),
                self._mended(way, trace, queue, leg == "line", 1.0, LINE_FACTORS[1]),
            )
        tally.unknown += 1
        return trace, self._mended(way, trace, queue, line, 1.0, LINE_FACTORS[1])

    def _mended(self, way: Direction, trace: Trace, queue: Queue, on_line: bool, share: float, of_rate: float) -> Trace:
        if not on_line:
            return media_first(trace, queue, INSIDE_KBPS, share)
        factor = self._change.line(way)
        if self._change.first(way):
            rate = self._site.up_kbps if way == "up" else self._site.down_kbps
            return media_first(trace, queue, rate or 1, share)
        return larger_line(trace, queue, max(1.0, factor * of_rate), share)
