"""One direction of the stand-in path, as a model: no socket, no clock, seeded randomness.

A packet offered at some instant meets, in this order: a closed port, random
and bursty loss, a queue in front of a link of some rate that other traffic
shares, the distance, and a change of its marking. Every packet's fate is told.
"""

from __future__ import annotations

import heapq
import itertools
import random
from collections import OrderedDict, deque
from dataclasses import dataclass, field, fields, replace
from typing import Any, Literal

Fate = Literal["passed", "copied", "blocked", "lost", "queue"]
IP_UDP_BYTES = 28
_FULL_BYTES = 1500
_STREAMS_SHARE = 0.94
_NS = 1_000_000


class LaneError(ValueError):
    """A path description that cannot be; the text says which value."""


@dataclass(frozen=True)
class LaneConfig:
    """What one direction does to packets. Zero means the effect is absent."""

    rate_kbps: float = 0.0
    queue_ms: float = 200.0
    """How long a full queue takes to drain at ``rate_kbps``."""
    discipline: str = "fifo"
    """fifo: one queue, the newest packet is dropped. fair: flows take turns, the longest queue loses."""
    cross_kbps: float = 0.0
    """Other traffic on the same link, in packets of 1200 bytes at random instants."""
    delay_ms: float = 0.0
    spread_ms: float = 0.0
    """Mean of the extra delay."""
    spread: str = "exponential"
    keep_order: bool = True
    loss_pct: float = 0.0
    burst_enter_pct: float = 0.0
    """Chance per packet that a bad spell begins (Gilbert–Elliott)."""
    burst_leave_pct: float = 25.0
    burst_loss_pct: float = 100.0
    """Loss within a bad spell."""
    reorder_pct: float = 0.0
    reorder_ms: float = 30.0
    duplicate_pct: float = 0.0
    dscp: int = -1
    """Marking given to every packet; -1 leaves it as it came."""
    blocked_ports: tuple[tuple[int, int], ...] = ()

    @staticmethod
    def from_json(value: Any, base: LaneConfig | None = None) -> LaneConfig:
        """``base`` with the fields of ``value`` changed. Raises LaneError."""
        if not isinstance(value, dict):
            raise LaneError("A direction of the path must be an object of settings.")
        known = {f.name: f for f in fields(LaneConfig)}
        changed: dict[str, Any] = {}
        for name, setting in value.items():
            if name not in known:
                raise LaneError(f"The path has no setting “{name}”. Known: {', '.join(known)}.")
            if name == "blocked_ports":
                changed[name] = tuple((int(low), int(high)) for low, high in setting)
            elif isinstance(known[name].default, str | bool) or (
                isinstance(setting, int | float) and (setting >= 0 or name == "dscp")
            ):
                changed[name] = setting
            else:
                raise LaneError(f"The path's {name} cannot be {setting!r}.")
        config = replace(base or LaneConfig(), **changed)
        if config.discipline not in ("fifo", "fair") or config.spread not in (
            "exponential",
            "uniform",
            "pareto",
        ):
            raise LaneError("discipline is fifo or fair; spread is exponential, uniform or pareto.")
        return config


@dataclass
class Packet:
    """A packet on its way; ``data`` is empty for the traffic of others."""

    data: bytes
    in_ns: int
    flow: Any
    port: int = 0
    dscp: int = 0
    ttl: int = 64
    address: Any = None
    is_cross: bool = False
    kept: bool = False
    """Part of a stream that must stay whole: it is taken in only where there is room, and never dropped."""
    fate: Fate = "passed"

    @property
    def size(self) -> int:
        return len(self.data) + IP_UDP_BYTES


@dataclass
class Lane:
    """``offer`` packets, ask ``next_ns`` when to look again, ``take`` what has arrived at the far side.

    ``costs`` gives the packets that have been dropped since it was last asked.
    """

    config: LaneConfig
    rng: random.Random
    _queues: OrderedDict[Any, deque[Packet]] = field(default_factory=OrderedDict)
    _backlog: int = 0
    _link_free_ns: int = 0
    _exits: list[tuple[int, int, Packet]] = field(default_factory=list)
    _count: Any = field(default_factory=itertools.count)
    _last_exit_ns: int = 0
    _bad_spell: bool = False
    _next_cross_ns: int = 0
    _costs: list[Packet] = field(default_factory=list)

    def offer(self, packet: Packet) -> None:
        """Take a packet in at ``packet.in_ns``."""
        self._advance(packet.in_ns)
        c = self.config
        if any(low <= packet.port <= high for low, high in c.blocked_ports):
            self._drop(packet, "blocked")
            return
        if self._is_lost():
            self._drop(packet, "lost")
            return
        if c.duplicate_pct and self.rng.random() * 100 < c.duplicate_pct:
            copy = replace(packet, fate="copied")
            self._leave(copy, packet.in_ns + self.rng.randrange(5 * _NS))
        if not c.rate_kbps:
            self._leave(packet, packet.in_ns)
            return
        self._enqueue(packet)
        self._serve(packet.in_ns)

    def has_room(self) -> bool:
        """For one more packet of full size, with some room left for others: TCP makes way where a queue is full."""
        c = self.config
        return not c.rate_kbps or self._backlog + _FULL_BYTES <= _STREAMS_SHARE * c.queue_ms * c.rate_kbps / 8

    def carry(self, packet: Packet) -> None:
        """Take in a packet that is to be kept; ``has_room`` was asked before."""
        self._advance(packet.in_ns)
        if not self.config.rate_kbps:
            self._leave(packet, packet.in_ns)
            return
        self._queues.setdefault(packet.flow if self.config.discipline == "fair" else None, deque()).append(packet)
        self._backlog += packet.size
        self._serve(packet.in_ns)

    def costs(self) -> list[Packet]:
        """Packets dropped since the last call, each with its fate. Other people's are not told."""
        costs, self._costs = self._costs, []
        return costs

    def next_ns(self) -> int | None:
        """When the next packet leaves, as far as is known now; None when nothing is on its way."""
        due = [self._exits[0][0]] if self._exits else []
        if self._backlog:
            due.append(self._link_free_ns)
        return min(due, default=None)

    def take(self, now_ns: int) -> list[Packet]:
        """Packets that have come out by ``now_ns``, in order."""
        self._advance(now_ns)
        out = []
        while self._exits and self._exits[0][0] <= now_ns:
            packet = heapq.heappop(self._exits)[2]
            if self.config.dscp >= 0:
                packet.dscp = self.config.dscp
            out.append(packet)
        return out

    def _is_lost(self) -> bool:
        c, chance = self.config, self.rng.random
        if c.burst_enter_pct:
            if self._bad_spell:
                self._bad_spell = chance() * 100 >= c.burst_leave_pct
            else:
                self._bad_spell = chance() * 100 < c.burst_enter_pct
            if self._bad_spell and chance() * 100 < c.burst_loss_pct:
                return True
        return bool(c.loss_pct) and chance() * 100 < c.loss_pct

    def _advance(self, now_ns: int) -> None:
        c = self.config
        if c.rate_kbps and c.cross_kbps:
            mean_gap = (1200 + IP_UDP_BYTES) * 8 * _NS / c.cross_kbps
            # What went before an idle time longer than the queue has long gone; what just begins finds the link
            # as it is.
            begin = now_ns - 2 * int(c.queue_ms * _NS)
            self._next_cross_ns = max(self._next_cross_ns or now_ns, begin)
            while self._next_cross_ns <= now_ns:
                self._serve(self._next_cross_ns)
                self._enqueue(Packet(bytes(1200), self._next_cross_ns, "cross", is_cross=True))
                self._next_cross_ns += int(self.rng.expovariate(1 / mean_gap))
        else:
            self._next_cross_ns = 0
        self._serve(now_ns)

    def _drop(self, packet: Packet, fate: Fate) -> None:
        packet.fate = fate
        if not packet.is_cross:
            self._costs.append(packet)

    def _enqueue(self, packet: Packet) -> None:
        limit = self.config.queue_ms * self.config.rate_kbps / 8
        if self._backlog + packet.size > limit:
            if self.config.discipline == "fifo":
                self._drop(packet, "queue")
                return
            while self._backlog + packet.size > limit and self._backlog:
                longest = max(self._queues, key=lambda flow: sum(p.size for p in self._queues[flow]))
                if self._queues[longest][-1].kept:
                    self._drop(packet, "queue")
                    return
                victim = self._queues[longest].pop()
                if not self._queues[longest]:
                    del self._queues[longest]
                self._backlog -= victim.size
                self._drop(victim, "queue")
        flow = packet.flow if self.config.discipline == "fair" else None
        self._queues.setdefault(flow, deque()).append(packet)
        self._backlog += packet.size

    def _serve(self, now_ns: int) -> None:
        while self._backlog:
            flow, queue = next(iter(self._queues.items()))
            start = max(self._link_free_ns, queue[0].in_ns)
            if start > now_ns:
                return
            packet = queue.popleft()
            del self._queues[flow]
            if queue:
                self._queues[flow] = queue  # to the back: flows take turns
            self._backlog -= packet.size
            rate = self.config.rate_kbps
            self._link_free_ns = start + (int(packet.size * 8 * _NS / rate) if rate else 0)
            if not packet.is_cross:
                self._leave(packet, self._link_free_ns)

    def _leave(self, packet: Packet, link_ns: int) -> None:
        c = self.config
        exit_ns = link_ns + int((c.delay_ms + self._spread_ms()) * _NS)
        if c.reorder_pct and not packet.kept and self.rng.random() * 100 < c.reorder_pct:
            exit_ns += int(c.reorder_ms * _NS)
        elif packet.kept or (c.keep_order and packet.fate == "passed"):
            exit_ns = max(exit_ns, self._last_exit_ns)
            self._last_exit_ns = exit_ns
        heapq.heappush(self._exits, (exit_ns, next(self._count), packet))

    def _spread_ms(self) -> float:
        mean = self.config.spread_ms
        if not mean:
            return 0.0
        if self.config.spread == "uniform":
            return self.rng.uniform(0, 2 * mean)
        if self.config.spread == "pareto":
            return mean * (self.rng.paretovariate(3) - 1) * 2
        return self.rng.expovariate(1 / mean)
