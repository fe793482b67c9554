"""Upload or download, by stamps of clocks that differ by hours and run apart."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.days.analysis import analyse
from tarnfell.core.days.direction import direction_of
from tarnfell.core.days.rounds import Rounds
from tarnfell.core.quality import criterion_for
from tests.core.days.weeks import LONDON, Week


def stamped(
    up_share: float, drift_ppm: float = 30.0, swing_ms: float = 80.0, n: int = 400
) -> tuple[np.ndarray, np.ndarray]:
    chance = np.random.default_rng(3)
    queue = swing_ms * chance.random(n)
    rtt = 30 + queue + chance.gamma(1, 1, n)
    up = 7_200_000 + np.arange(n) * drift_ppm / 1000 + 15 + up_share * queue + chance.gamma(1, 0.5, n)
    up[::17] = np.nan
    return rtt, up


@pytest.mark.parametrize(
    ("share", "told"),
    [(1.0, "up"), (0.8, "up"), (0.7, "both"), (0.5, "both"), (0.3, "both"), (0.2, "down"), (0.0, "down")],
)
def test_the_direction_that_grows_with_the_round_trip(share: float, told: str) -> None:
    for drift in (-400.0, 0.0, 400.0):
        assert direction_of(*stamped(share, drift)) == told


def test_what_does_not_swing_and_what_is_too_little_tells_nothing() -> None:
    assert direction_of(*stamped(1.0, swing_ms=8.0)) is None
    rtt, up = stamped(1.0)
    assert direction_of(rtt[1:10], up[1:10]) is None
    assert direction_of(rtt, np.full(len(rtt), np.nan)) is None


@pytest.mark.parametrize(("up_share", "key", "way"), [(1.0, "uplink-queue", "up"), (0.0, "downlink-queue", "down")])
def test_a_queue_on_the_line_has_its_direction(up_share: float, key: str, way: str) -> None:
    week = Week(4, days=1)
    before = week.rtt[4].copy()
    week.queues("line", 2000, 900, 250)
    rounds = week.rounds()
    up = np.full(rounds.rtt_ms.shape, np.nan)
    up[4] = 5000 + before / 2 + up_share * (week.rtt[4] - before)
    known = Rounds(rounds.places, rounds.at_us, rounds.sent, rounds.rtt_ms, rounds.interval_us, up)
    criterion = criterion_for(find_codec("g711a"), 20)
    told = analyse(known, criterion, 4.0, LONDON)
    assert [(one.key, one.leg, one.direction) for one in told.findings] == [(key, "line", way)]
    assert [one.direction for one in told.episodes] == [way]
    blind = analyse(rounds, criterion, 4.0, LONDON)
    assert [(one.key, one.direction) for one in blind.findings] == [("delay-swings", "both")]
