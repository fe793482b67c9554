"""Sentences for one picture and one fill: what decided, in figures that can be checked."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.directions import DirectionFigures, PictureFigures
from tarnfell.core.rates import PlanError
from tarnfell.wire.kinds.fill import FillPlan
from tarnfell.work.judging.run import run_direction, why_picture
from tarnfell.work.placing.fill_plan import calls_beside, most_bytes

pytestmark = pytest.mark.usefixtures("told_as_before")

WHOLE = PictureFigures(ssrc=1, dscp_sent=34, dscp_received={}, frames=300, whole=300, shown=300, lost=0, late=0,
                       freezes=0, frozen_ms=0.0)  # fmt: skip
BROKEN = replace(WHOLE, whole=290, shown=290, lost=12)


@pytest.mark.parametrize(
    ("figures", "says"),
    [
        (WHOLE, "Every frame came whole and in time."),
        (BROKEN, "10 of 300 frames were broken, by 12 lost packets."),
        (replace(BROKEN, lost=1), "10 of 300 frames were broken, by 1 lost packet."),
        (replace(BROKEN, lost=0, late=7), "10 of 300 frames were broken, by 7 late packets."),
        (replace(BROKEN, late=7), "10 of 300 frames were broken, by 12 lost and 7 late packets."),
        (
            replace(BROKEN, shown=250, freezes=1, frozen_ms=1450.0),
            "10 of 300 frames were broken, by 12 lost packets; 40 more came whole but built on a broken one; "
            "the picture froze once, 1.4 s in all.",
        ),
        (
            replace(BROKEN, shown=100),
            "10 of 300 frames were broken, by 12 lost packets; 190 more came whole but built on a broken one.",
        ),
        (
            replace(BROKEN, freezes=3, frozen_ms=2060.0),
            "10 of 300 frames were broken, by 12 lost packets; the picture froze 3 times, 2.1 s in all.",
        ),
    ],
)
def test_what_decided_a_picture(figures: PictureFigures, says: str) -> None:
    assert why_picture(figures) == says


def test_of_a_direction_in_which_nothing_was_sent_nothing_was_lost_or_late() -> None:
    told = run_direction([DirectionFigures(), DirectionFigures()])
    assert told is not None
    assert (told.sent, told.loss_pct, told.late_pct) == (0, 0.0, 0.0)
    assert told.why.startswith("Nothing was sent")
    assert run_direction([]) is None


def test_beside_a_fill_one_call_is_marked_and_the_other_is_not() -> None:
    plan = calls_beside(find_codec("g711a"), 20, FillPlan(5.0))
    assert (plan.calls, plan.dscp, plan.marks) == (2, 0, (0, 46))
    assert calls_beside(find_codec("g711a"), 20, FillPlan(5.0), 40).marks == (0, 40)
    for nothing in (0, 64, -1):
        with pytest.raises(PlanError, match="marks nothing"):
            calls_beside(find_codec("g711a"), 20, FillPlan(5.0), nothing)


def test_what_a_fill_moves_at_the_most_is_its_ways_rates_and_time() -> None:
    plan = FillPlan(8.0, ways=("up", "down", "both"))
    assert most_bytes(plan, 1000, 4000) == (1000 + 4000 + 5000) * 1000
    assert most_bytes(replace(plan, ceiling_kbps=2000), 1000, 4000) == (1000 + 2000 + 3000) * 1000
