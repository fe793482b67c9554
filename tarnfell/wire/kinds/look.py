"""A look at some addresses by echoes, small and large, for a while; a call beside them where a place is surveyed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fields import bounded

LookRole = Literal["gateway", "far-end", "any"]
MOST_ROUNDS = 7200
MOST_LOOKED_AT = 4
LEAST_INTERVAL_S, LONGEST_S = 0.05, 3600.0
LEAST_BYTES, MOST_BYTES = 64, 9000


@dataclass(frozen=True)
class LookTarget:
    role: LookRole
    host: str = bounded(most=253, default="")
    """Empty: the gateway that the system has."""


@dataclass(frozen=True)
class LookArguments:
    targets: tuple[LookTarget, ...] = bounded(1, MOST_LOOKED_AT)
    seconds: float = bounded(LEAST_INTERVAL_S, LONGEST_S, default=20.0)
    interval_s: float = bounded(LEAST_INTERVAL_S, 60, default=0.2)
    small_bytes: int = bounded(LEAST_BYTES, MOST_BYTES, default=64)
    """Of the packet on the line, IP's header in it; never fragmented."""
    large_bytes: int = bounded(0, MOST_BYTES, default=1400)
    """0: only small ones."""
    call: Optional[CallPlan] = None
    """Beside the echoes, to the far end."""
    far_host: str = bounded(most=253, default="")
    far_port: int = bounded(0, 65535, default=0)
    far_key: str = bounded(most=200, default="")


@dataclass(frozen=True)
class LookSeries:
    """Echoes of one size to one target."""

    role: LookRole
    host: str
    address: Optional[str]
    """None where the name has none."""
    packet_bytes: int
    sent: int = 0
    answered: int = 0
    lost: int = 0
    """Of those whose time was up; what was sent a moment ago may still be answered."""
    reordered: int = 0
    """Answers that came after that of a later one."""
    duplicates: int = 0
    ttls: tuple[int, ...] = ()
    """With which answers arrived; more than one where their way back has changed."""
    min_ms: Optional[float] = None
    median_ms: Optional[float] = None
    p95_ms: Optional[float] = None
    max_ms: Optional[float] = None
    deviation_ms: Optional[float] = None
    """Mean distance from the mean."""
    rtt_us: tuple[int, ...] = ()
    """Of the newest, in the order of asking, -1 where none came: at most NEWEST."""
    failure: Optional[str] = None


NEWEST = 300


@dataclass(frozen=True)
class LookResult:
    series: tuple[LookSeries, ...] = ()
    after_s: float = 0.0
    medium: Optional[str] = None
    """Of the link it was asked over."""
    link_mbps: Optional[int] = None
    wifi_signal_dbm: Optional[int] = None
    record: bytes = bounded(most=1 << 19, default=b"")
    """Of the call beside, as of any other; empty where there was none."""
    call_failure: Optional[str] = None
    cannot: tuple[str, ...] = ()
    """What this system did not let the probe ask, in words."""
