"""Which leg lost packets, of few rounds: as sure as it is right, and no leg blamed for what is chance."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pytest

from tarnfell.core.days import loss_legs
from tarnfell.core.days.loss_legs import OWN_ASIDE, OWN_ON_PATH, Missed, evidence_share, weigh

GATEWAY, EDGE, OUTSIDE, FAR = range(4)
INSIDE, LINE, BEYOND = range(3)


def missed(counts: list[int], rounds: int) -> tuple[Missed, list[list[Missed]]]:
    """Of gateway, edge, an outside address and the far end."""
    gateway, edge, outside = (
        Missed(lost, rounds, 0.0, own)
        for lost, own in zip(counts[:3], (OWN_ON_PATH, OWN_ON_PATH, OWN_ASIDE), strict=True)
    )
    return Missed(counts[FAR], rounds, 0.0), [[gateway], [edge, outside]]


@pytest.mark.parametrize(
    ("counts", "leg"),
    [
        ([6, 5, 7, 6], INSIDE),
        ([0, 5, 7, 6], LINE),
        ([0, 0, 0, 6], BEYOND),
        ([0, 0, 6, 6], BEYOND),
        ([0, 6, 0, 6], BEYOND),  # the edge loses of its own: what lies outside came through it
        ([12, 5, 7, 6], INSIDE),  # so does the gateway, and that is no proof against it
        ([12, 0, 0, 6], BEYOND),
        ([20, 20, 20, 20], INSIDE),
        ([0, 20, 20, 20], LINE),
    ],
)
def test_the_leg_is_where_neighbours_begin_to_miss(counts: list[int], leg: int) -> None:
    told = weigh(*missed(counts, 20))
    assert int(told.most.argmax()) == leg
    assert told.most[leg] > 0.7
    assert told.share[leg] > 0.6
    assert told.share.sum() == pytest.approx(1)


def test_two_legs_share_what_both_lose() -> None:
    told = weigh(*missed([10, 11, 9, 60], 100))
    assert told.share[INSIDE] == pytest.approx(0.1 / 0.6, abs=0.03)
    assert told.share[BEYOND] == pytest.approx(0.5 / 0.6, abs=0.03)


def test_one_packet_fewer_is_no_proof() -> None:
    told = weigh(*missed([0, 0, 0, 1], 8))
    assert told.most[BEYOND] < 0.9
    assert weigh(*missed([0, 0, 0, 8], 64)).most[BEYOND] > 0.95


def test_what_a_place_always_misses_is_not_held_against_a_leg() -> None:
    end, _ = missed([0, 0, 0, 6], 20)
    often = [[Missed(0, 20, 0.0, OWN_ON_PATH)], [Missed(6, 20, 0.3, OWN_ON_PATH)]]
    seldom = [[Missed(0, 20, 0.0, OWN_ON_PATH)], [Missed(6, 20, 0.0, OWN_ON_PATH)]]
    assert weigh(end, often).most[BEYOND] > weigh(end, seldom).most[BEYOND] + 0.3


def test_a_place_that_was_not_asked_leaves_it_open() -> None:
    told = weigh(Missed(6, 20, 0.0), [[Missed(0, 20, 0.0, OWN_ON_PATH)], []])
    assert told.most[INSIDE] < 0.05
    assert told.most[LINE] == pytest.approx(told.most[BEYOND], abs=0.05)


def test_many_rounds_are_read_no_finer_than_the_grid() -> None:
    few, many = (weigh(*missed([0, 19 * n, 21 * n, 20 * n], 100 * n)) for n in (1, 40))
    assert many.most[LINE] > 0.9
    assert many.most == pytest.approx(few.most, abs=0.05)


@pytest.mark.parametrize("rounds", [6, 15, 40])
def test_it_is_as_sure_as_it_is_right(rounds: int) -> None:
    """Of losses on one leg, drawn at every share, with the stretches chosen by what the far end lost."""
    chance = np.random.default_rng(3)
    right: list[bool] = []
    sure: list[float] = []
    wrong: Counter[int] = Counter()
    while len(right) < 400:
        share = chance.uniform(0.08, 0.6)
        leg = int(chance.integers(3))
        lost = [int(chance.binomial(rounds, share)) if place >= leg else 0 for place in (0, 1, 1, 2)]
        if lost[FAR] < share * rounds or not lost[FAR]:
            continue
        told = weigh(*missed(lost, rounds))
        seen = int(told.most.argmax())
        right.append(seen == leg)
        sure.append(float(told.most[seen]))
        wrong[seen] += told.most[seen] > 0.9 and seen != leg
    assert np.mean(right) > np.mean(sure) - 0.05
    assert np.mean(right) > {6: 0.75, 15: 0.87, 40: 0.95}[rounds]
    assert sum(wrong.values()) <= 0.08 * len(right)


def test_losses_that_come_together_tell_less_than_as_many_apart() -> None:
    chance = np.random.default_rng(4)
    apart = chance.random(3600) < 0.2
    together = np.repeat(chance.random(90) < 0.2, 40)
    assert evidence_share(apart) > 0.7
    # Forty neighbours are lost or come as one.
    assert 1 / 80 < evidence_share(together) < 1 / 20
    assert evidence_share(together[:60]) == 1.0  # of a minute it cannot be told
    # Two minutes are sixty parts of two rounds: 0.25 / 2 is expected of their means, 0.25 * 60 / 59 is there.
    pairs = np.tile([True, True, False, False], 30)
    assert evidence_share(pairs) == pytest.approx(0.125 / (0.25 * 60 / 59))
    assert evidence_share(np.ones(900, bool)) == 1.0


@pytest.mark.parametrize("counts", [[3, 9, 8, 10], [1, 1, 2, 9], [0, 6, 6, 6]])
def test_the_grid_is_fine_enough(monkeypatch: pytest.MonkeyPatch, counts: list[int]) -> None:
    """One seven times as fine tells the same."""
    told = weigh(*missed(counts, 40))
    losses = np.concatenate([[0.0], 1 / (1 + np.exp(-np.arange(-5.6, 5.61, 0.05)))])
    monkeypatch.setattr(loss_legs, "_LOSSES", losses)
    monkeypatch.setattr(loss_legs, "_PRIOR", np.array([0.5] + [0.5 / (len(losses) - 1)] * (len(losses) - 1)))
    finer = weigh(*missed(counts, 40))
    assert told.share == pytest.approx(finer.share, abs=0.01)
    assert told.most == pytest.approx(finer.most, abs=0.02)
