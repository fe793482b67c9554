"""What is drawn of a long call: of each stretch of packets the extremes and one of each fate, of seconds the worst."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.closeup import (
    LENGTHS_S,
    MAX_POINTS,
    MAX_STRETCHES,
    PacketPoint,
    Stretch,
    points_of,
    stretch_length,
    stretches_of,
    thinned,
)
from tarnfell.core.playout import fixed
from tarnfell.core.quality import Seconds
from tarnfell.core.trace import MAX_SPAN_US, Trace


def plainly(pdv: list[float], late: list[bool], points: int) -> list[int]:
    """Stretch by stretch, the longer ones first; the first of several that are alike."""
    keep: set[int] = set()
    for stretch in np.array_split(np.arange(len(pdv)), points // 4):
        lost = [i for i in stretch.tolist() if pdv[i] != pdv[i]]
        came = [i for i in stretch.tolist() if pdv[i] == pdv[i]]
        keep.update(lost[:1], [i for i in stretch.tolist() if late[i]][:1])
        if came:
            keep.update((max(came, key=lambda i: pdv[i]), min(came, key=lambda i: pdv[i])))
    return sorted(keep)


@pytest.mark.parametrize("count", [40, 41, 399, 1000])
@pytest.mark.parametrize("gone", [0.0, 0.05, 0.7, 1.0])
def test_a_stretch_keeps_its_extremes_and_one_of_each_fate(count: int, gone: float) -> None:
    chance = np.random.default_rng(count)
    pdv = np.round(chance.gamma(1.0, 4.0, count), 1)  # so that some are alike
    pdv[chance.random(count) < gone] = np.nan
    late = (chance.random(count) < 0.1) & ~np.isnan(pdv)
    told = thinned(pdv, late, 40)
    assert told.tolist() == plainly(pdv.tolist(), late.tolist(), 40)
    assert len(told) <= 40


@pytest.mark.parametrize(("packets", "points"), [(MAX_POINTS, MAX_POINTS), (MAX_POINTS + 1, MAX_POINTS // 2)])
def test_what_there_is_room_for_is_drawn_packet_by_packet(packets: int, points: int) -> None:
    sent = np.arange(packets) * 20_000
    came = Trace(np.arange(packets), sent, sent + 20_000 + 10 * (np.arange(packets) % 2))
    told = points_of(came, fixed(came))
    assert len(told) == points
    assert told[0] == PacketPoint(0.0, 0.0, "in time")


@pytest.mark.parametrize(
    ("seconds", "length"),
    [(1, 1), (300, 1), (301, 2), (600, 2), (601, 5), (1800, 10), (3600, 15), (4 * 3600, 60), (24 * 3600, 300)],
)
def test_a_call_stands_in_as_many_stretches_as_there_is_room_for(seconds: int, length: int) -> None:
    assert stretch_length(seconds) == length


def test_there_is_room_for_the_longest_that_is_judged() -> None:
    assert -(-MAX_SPAN_US // 1_000_000 // LENGTHS_S[-1]) <= MAX_STRETCHES


def test_a_stretch_tells_its_worst_second_and_counts_all_of_them() -> None:
    one, nan = np.ones(5), np.nan
    seconds = Seconds(
        sent=np.array([50, 50, 49, 50, 10]),
        lost=np.array([0, 1, 2, 0, 10]),
        late=np.array([3, 0, 0, 4, 0]),
        delay_p50_ms=one,
        pdv_max_ms=one,
        mos=np.array([4.4, 3.0, 3.1, 4.3, 1.0]),
        depth_ms=np.array([60.0, 80.0, 70.0, 60.0, 60.0]),
        base_ms=np.array([0.0, 5.0, 0.0, nan, nan]),
    )
    assert stretches_of(seconds, 2) == [
        Stretch(100, 1, 3, 3.0, 60.0, 85.0),
        Stretch(99, 2, 4, 3.1, 60.0, 70.0),
        Stretch(10, 10, 0, 1.0, 60.0, 60.0),
    ]
    assert [s.mos for s in stretches_of(seconds, 1)] == [4.4, 3.0, 3.1, 4.3, 1.0]
