"""What is really so at a demo site: its way to the far end, when it fails, and what stands on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.demo.simulate import Floats, Ints, Way

LARGE_BYTES = 1000
"""From so many on a packet is a large one."""


@dataclass(frozen=True)
class Spell:
    """A stretch of the week in which the line loses packets, both ways; all of them: it is down."""

    days_before: int
    """The end of the week."""
    minute: int
    """Of the site's own day."""
    seconds: int
    loss_pct: float = 100.0
    large_loss_pct: float = 100.0


@dataclass(frozen=True)
class Inside:
    """A link inside the site that everything passes, and the chance by hour of a working day that it is busy."""

    up: Way
    down: Way
    load: tuple[float, ...]


@dataclass(frozen=True)
class DemoSite:
    """A site with days behind it, or (without ways) one that is only set up."""

    values: dict[str, Any]
    test_point: str
    probe: str
    far_end: tuple[str, str, str]
    """Name, place, address."""
    medium: str = "Ethernet"
    """Between test point and gateway, as its system tells it."""
    up: Way | None = None
    down: Way | None = None
    up_load: tuple[float, ...] = ()
    """Chance of other traffic by hour of a working day."""
    down_load: tuple[float, ...] = ()
    weekend_share: float = 0.15
    inside: Inside | None = None
    spells: tuple[Spell, ...] = ()
    large_loss_pct: float = 0.0
    """Of large packets on the line, at all times."""
    slow_edge: bool = False
    """The provider's router is slow to answer for itself, and passes everything on."""
    marking_up: bool = True
    """Whether packets arrive at the far end marked as they were sent."""
    closed_ports: range = range(0)
    """Of the far end's media ports, those that a firewall keeps closed."""
    sip_helper: bool = False
    """The router rewrites signalling."""
    hours: float | None = None
    """How long before the end its probe was enrolled; None for all of the week."""
    held_runs: tuple[tuple[int, int, int], ...] = field(default_factory=tuple)
    """Runs of several calls: days before the end, hour, calls; with the brief's video beside them."""
    held_every_minutes: int | None = None
    """How often the needed calls and video are held for a moment in business hours, by a recurring plan."""
    filled: tuple[tuple[int, int], ...] = ()
    """When the line was filled: days before the end, hour."""

    @property
    def zone(self) -> ZoneInfo:
        return ZoneInfo(self.values["time_zone"])

    def begin(self, end: datetime, days: int) -> datetime:
        return end - (timedelta(days=days) if self.hours is None else timedelta(hours=self.hours))


class Weather:
    """A site's spells, at the times that they have before an end."""

    def __init__(self, site: DemoSite, end: datetime) -> None:
        self._always_large = site.large_loss_pct / 100
        today = end.astimezone(site.zone).replace(hour=0, minute=0, second=0, microsecond=0)
        self._spells: list[tuple[int, int, Spell]] = []
        for one in site.spells:
            local = (today - timedelta(days=one.days_before)).replace(hour=one.minute // 60, minute=one.minute % 60)
            from_us = round(local.astimezone(UTC).timestamp() * 1e6)
            self._spells.append((from_us, from_us + one.seconds * 1_000_000, one))

    def share_lost(self, at_us: Ints, size: Ints | int) -> Floats:
        """By what the line loses of packets sent then, of ``size`` bytes each: 0…1, of the shape of ``at_us``."""
        large = np.broadcast_to(np.asarray(size) >= LARGE_BYTES, at_us.shape)
        share = np.where(large, self._always_large, 0.0)
        for from_us, until_us, one in self._spells:
            during = (at_us >= from_us) & (at_us < until_us)
            share[during] = np.where(large[during], one.large_loss_pct, one.loss_pct) / 100
        return share

    def is_down(self, from_us: int, until_us: int) -> bool:
        """Whether the line goes down between, or is down."""
        return any(one.loss_pct >= 100 and begin < until_us and from_us < end for begin, end, one in self._spells)


def share_busy(by_hour: Sequence[float], at_us: Ints, zone: ZoneInfo, weekend: float) -> Floats:
    """The chance of other traffic at each instant."""
    hours, place = np.unique(at_us // 3_600_000_000, return_inverse=True)
    local = [datetime.fromtimestamp(int(one) * 3600, UTC).astimezone(zone) for one in hours]
    chance = [by_hour[one.hour] * (1.0 if one.isoweekday() < 6 else weekend) for one in local]
    return np.array(chance)[place]
