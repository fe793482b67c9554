"""Figures that screens show of calls while and after they are held: by hand from what was told."""

from __future__ import annotations

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.work.ingest.packets import Half, JudgedDirection
from tarnfell.work.ingest.uploads import figures_of
from tarnfell.work.judging.live import Counted, mouth_to_ear_ms, scores_of

pytestmark = pytest.mark.usefixtures("told_as_before")

CRITERION = criterion_for(find_codec("g711a"), 20)


def test_mouth_to_ear_of_a_live_second_is_half_the_round_trip_and_what_every_call_has() -> None:
    criterion = Criterion(ie=10, bpl=19, ptime_ms=20, look_ahead_ms=5, buffer_ms=60)
    assert mouth_to_ear_ms(40_000, criterion) == pytest.approx(20 + 60 + 20 + 5)
    assert mouth_to_ear_ms(None, criterion) == pytest.approx(85)


def test_calls_under_way_are_rated_by_what_was_due() -> None:
    """MOS by the share that was lost or late, to the last packet; None where nothing was due yet."""
    counts = [Counted(400, 400, 0), Counted(397, 400, 0), Counted(400, 400, 3), Counted(401, 400, 0), Counted(0, 0, 0)]
    at_once, lost, late, twice, nothing = scores_of(counts, 100.0, CRITERION)
    assert at_once == twice == pytest.approx(float(CRITERION.mos(CRITERION.rating(100.0, 0.0, 1.0))))
    assert lost == late == pytest.approx(float(CRITERION.mos(CRITERION.rating(100.0, 0.75, 1.0))))
    assert nothing is None
    assert scores_of([Counted(0, 400, 7)], 100.0, CRITERION) == [
        pytest.approx(float(CRITERION.mos(CRITERION.rating(100.0, 100.0, 1.0))))
    ]


@pytest.mark.parametrize(
    ("expected", "received", "lost", "pct"), [(1500, 1200, 300, 20.0), (8, 8, 0, 0.0), (0, 0, 0, 0.0)]
)
def test_of_a_cut_run_the_far_ends_last_word_is_what_was_lost(
    expected: int, received: int, lost: int, pct: float
) -> None:
    nothing = JudgedDirection(None, None, 7, 46, {}, "It was cut.")
    figures = figures_of(nothing, CRITERION, Half(30.0, expected, received))
    assert (figures.sent, figures.received, figures.lost, figures.loss_pct) == (expected, received, lost, pct)


@pytest.mark.parametrize(
    ("received", "kept_pct"), [({"46": 30, "0": 10}, 75.0), ({"0": 10}, 0.0), ({"46": 7}, 100.0), ({}, None)]
)
def test_kept_marking_is_of_those_packets_whose_marking_was_told(
    received: dict[str, int], kept_pct: float | None
) -> None:
    figures = figures_of(JudgedDirection(None, None, 7, 46, received, "Nothing was sent."), CRITERION)
    assert (figures.dscp_kept_pct, figures.dscp_sent, figures.dscp_received) == (kept_pct, 46, received)
    assert figures.reason == "Nothing was sent."
