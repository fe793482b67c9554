"""What the way between test point and far end adds, direction by direction."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.verdict.readings import Reading

NOTICEABLE_MOS = 0.1


@dataclass(frozen=True)
class Leg:
    """One direction, over all calls."""

    calls: int
    loss_pct: float | None
    added_p95_ms: float | None
    """Median delay of a call above the quiet state, 95th percentile over the calls."""
    mos_p10: float | None
    """Nine calls in ten are at least this good."""


def leg(readings: list[Reading], direction: str) -> Leg:
    mine = [r for r in readings if r.fact.direction == direction]
    added = [r.added_ms for r in mine if r.added_ms is not None]
    counted = [r for r in mine if r.fact.loss_pct is not None]
    sent = sum(r.fact.sent for r in counted)
    lost = sum(r.fact.sent - r.fact.received for r in counted)
    return Leg(
        calls=len(mine),
        loss_pct=100 * lost / sent if sent else None,
        added_p95_ms=float(np.percentile(added, 95)) if added else None,
        mos_p10=float(np.percentile([r.mos for r in mine], 10)) if mine else None,
    )


def worse_direction(up: Leg, down: Leg) -> Literal["up", "down"] | None:
    """The direction that is noticeably worse, if one is."""
    if up.mos_p10 is None or down.mos_p10 is None or abs(up.mos_p10 - down.mos_p10) <= NOTICEABLE_MOS:
        return None
    return "up" if up.mos_p10 < down.mos_p10 else "down"
