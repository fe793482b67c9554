"""What a check comes to: rungs, causes, and what looks like a cause and is none."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from tarnfell.core.causes import CauseKey, LegName, Way

State = Literal["passed", "failed", "unproven"]
RungKey = Literal[
    "own-stack",
    "gateway",
    "edge",
    "outside",
    "names",
    "services",
    "translation",
    "signalling",
    "marking",
    "path",
    "packet-size",
    "far-end",
]
Figure = int | float | str | None
EF = 46


@dataclass(frozen=True)
class Limits:
    """What counts as healthy; a site may have its own."""

    gateway_ms: float = 5.0
    """Median round trip to the gateway over a cable."""
    gateway_wireless_ms: float = 25.0
    loss_pct: float = 20.0
    """Of echoes through an address and all beyond it: fewer say little of ten packets."""
    name_ms: float = 200.0
    slow_hop_ms: float = 20.0
    """A router that takes so much longer than those beyond it is slow to answer for itself."""
    binding_s: float = 30.0
    """A way back that closes sooner behind a silent socket forgets calls on hold and phones that wait."""
    changed_pct: float = 50.0
    """Of packets that arrived with another marking than they were sent with."""


USUAL = Limits()


@dataclass(frozen=True)
class Rung:
    key: RungKey
    title: str
    state: State
    says: str
    figures: Mapping[str, Figure] = field(default_factory=dict)
    took_ms: float | None = None
    """What was asked for it took so long; several rungs may rest on the same answers. None where it was not asked."""


@dataclass(frozen=True)
class Finding:
    """A cause, with what was seen, what mends it and who does that."""

    key: CauseKey
    leg: LegName
    direction: Way
    title: str
    says: str
    remedy: str
    who: str
    rungs: tuple[RungKey, ...]


@dataclass(frozen=True)
class NotFault:
    """What would worry somebody who saw it, and why it need not."""

    key: CauseKey
    says: str


@dataclass(frozen=True)
class Judged:
    rungs: tuple[Rung, ...]
    causes: tuple[Finding, ...]
    not_faults: tuple[NotFault, ...]
