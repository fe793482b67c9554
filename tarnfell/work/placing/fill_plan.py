"""What is asked of a probe that fills the line: how long, and the two calls beside the streams."""

from __future__ import annotations

from dataclasses import replace

from tarnfell.core.codecs import Codec
from tarnfell.core.rates import PlanError
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fill import FillPlan
from tarnfell.work.placing.call_plan import call_plan

BEST_EFFORT, EF = 0, 46
PLAIN_CALL, MARKED_CALL = 1, 2
"""Numbers of the two calls."""


def calls_beside(codec: Codec, ptime_ms: int, fill: FillPlan, marked: int = EF) -> CallPlan:
    """Two calls as long as the fill, one of them marked. Raises CodecError or PlanError."""
    if not 1 <= marked <= 63:
        raise PlanError(f"DSCP {marked} marks nothing: choose 1 to 63 (46 is EF).")
    plan = call_plan(codec, ptime_ms, 2, fill.length_s, BEST_EFFORT)
    return replace(plan, marks=(BEST_EFFORT, marked))


def most_bytes(fill: FillPlan, up_kbps: float, down_kbps: float) -> float:
    """What the streams move at the most over a line of these rates, bytes."""
    least = fill.ceiling_kbps or float("inf")
    up, down = min(up_kbps, least), min(down_kbps, least)
    ways = {"up": up, "down": down, "both": up + down}
    return sum(ways[way] * 1000 / 8 * fill.seconds for way in fill.ways)
