"""How far every far end is from a probe, and whether those of its site take the key."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Optional

from tarnfell.wire.kinds.fields import bounded

MAX_FAR_ENDS = 50


@dataclass(frozen=True)
class FarEndAsked:
    id: int
    host: str
    port: int
    key: str = ""
    """Only of far ends that the probe's site calls."""


@dataclass(frozen=True)
class DistancesArguments:
    far_ends: tuple[FarEndAsked, ...]


@dataclass(frozen=True)
class FarEndFound:
    id: int
    connect_ms: Optional[float] = bounded(0, default=None)
    """Least time to open a connection: one round trip and what filters do to it."""
    failure: Optional[str] = bounded(most=300, default=None)
    key_fits: Optional[bool] = None
    """None where it did not come to that."""


@dataclass(frozen=True)
class DistancesResult:
    distances: tuple[FarEndFound, ...] = bounded(most=MAX_FAR_ENDS)
