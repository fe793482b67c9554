"""When more is missed than chance brings: beginnings, ends, and what is no stretch."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.days.spoiling import Spoiling
from tarnfell.core.days.stretches import Stretch, stretches, usual_share
from tarnfell.core.quality import criterion_for

SECOND = 1_000_000
SPOILING = Spoiling(criterion_for(find_codec("g711a"), 20), 4.0, 30.0)
N = 40_000


def found(missed: np.ndarray, at_s: np.ndarray | None = None) -> list[Stretch]:
    at = (np.arange(len(missed)) if at_s is None else at_s) * SECOND
    return stretches(missed, at.astype(np.int64), SECOND, SPOILING.share(), SPOILING.spoils)


def quiet(share: float = 0.001, seed: int = 4) -> np.ndarray:
    return np.random.default_rng(seed).random(N) < share


def test_the_spoiling_share_is_where_the_e_model_meets_the_target() -> None:
    share = SPOILING.share()
    assert 0.03 < share < 0.06
    assert SPOILING.mos(share * 0.99) > 4.0 > SPOILING.mos(share * 1.01)
    assert SPOILING.mos(1.0) == 1.0
    far = Spoiling(SPOILING.criterion, 4.0, 700.0)
    assert far.mos(0.0) < 4.0
    assert far.least_mos == pytest.approx(far.mos(0.0) - 0.1)
    assert far.share() < share


@pytest.mark.parametrize(("seconds", "told"), [(4, 0), (5, 1), (8, 1)])
def test_an_outage_counts_from_five_rounds_on(seconds: int, told: int) -> None:
    missed = quiet()
    missed[19_900:20_100] = False
    missed[20_000 : 20_000 + seconds] = True
    assert found(missed) == [Stretch(20_000, 20_000 + seconds - 1)] * told


def test_single_rounds_never_add_up() -> None:
    for seed in range(6):
        assert found(quiet(0.01, seed)) == []


def test_losses_spread_over_minutes_are_one_stretch() -> None:
    missed = quiet()
    missed[20_000:21_200] |= np.random.default_rng(1).random(1_200) < 0.1
    (one,) = found(missed)
    assert abs(one.first - 20_000) < 60
    assert abs(one.last - 21_199) < 60


@pytest.mark.parametrize("every_s", [1, 5])
def test_what_chance_gathers_within_a_lossy_hour_is_no_stretch_of_its_own(every_s: int) -> None:
    """However often it is looked: the densest minutes of many are dense."""
    for seed in range(40):
        missed = quiet(seed=seed)
        missed[20_000:21_400] |= np.random.default_rng(seed).random(1_400) < 0.165
        at_us = (np.arange(N) * every_s * SECOND).astype(np.int64)
        told = stretches(missed, at_us, every_s * SECOND, SPOILING.share(), SPOILING.spoils)
        assert len(told) == 1, seed


def test_outages_that_come_and_go_keep_their_edges() -> None:
    missed = quiet(0.0)
    begins = range(20_000, 21_200, 120)
    for begin in begins:
        missed[begin : begin + 50] = True
    assert found(missed) == [Stretch(begin, begin + 49) for begin in begins]


@pytest.mark.parametrize(("long", "away"), [(8, 6), (40, 6), (40, 3), (300, 3)])
@pytest.mark.parametrize("sides", [(True, False), (False, True), (True, True)])
def test_what_was_lost_alone_a_few_rounds_off_an_outage_is_no_part_of_it(
    long: int, away: int, sides: tuple[bool, bool]
) -> None:
    missed = quiet(0.0)
    missed[20_000 : 20_000 + long] = True
    missed[[at for at, on in zip((20_000 - 1 - away, 20_000 + long + away), sides, strict=True) if on]] = True
    assert found(missed) == [Stretch(20_000, 20_000 + long - 1)]


def test_what_may_as_well_be_of_one_trouble_stays_together() -> None:
    missed = quiet(0.0)
    missed[20_000:20_008] = True
    missed[[19_994, 20_013]] = True
    assert found(missed) == [Stretch(19_994, 20_013)]


def test_trouble_that_loses_nearly_all_is_told_to_its_ends() -> None:
    missed = quiet(0.0)
    missed[20_000:20_060] = True
    missed[20_003:20_060:8] = False
    missed[20_060:20_066:2] = True
    assert found(missed) == [Stretch(20_000, 20_064)]


def test_an_outage_within_a_lossy_hour_keeps_its_own_edges() -> None:
    missed = quiet()
    missed[20_000:23_600] |= np.random.default_rng(2).random(3_600) < 0.08
    missed[21_500:21_700] = True
    parts = found(missed)
    assert any(abs(one.first - 21_500) <= 3 and abs(one.last - 21_699) <= 3 for one in parts)
    assert len(parts) == 3
    # and where the rest would not have spoiled a call it is not told
    mild = quiet(0.02)
    mild[21_500:21_700] = True
    (outage,) = found(mild)
    assert (abs(outage.first - 21_500) <= 3, abs(outage.last - 21_699) <= 3) == (True, True)


def test_a_few_losses_close_together_do_not_cut_a_lossy_hour() -> None:
    missed = quiet()
    missed[20_000:21_800] |= np.random.default_rng(5).random(1_800) < 0.09
    missed[20_900:20_906] = [True, False, True, True, False, True]
    assert len(found(missed)) == 1


def test_a_long_pause_ends_a_stretch_and_so_does_a_gap() -> None:
    missed = np.zeros(N, bool)
    missed[20_000:20_100] = missed[20_400:20_500] = True
    assert found(missed) == [Stretch(20_000, 20_099), Stretch(20_400, 20_499)]
    # The same rounds, with an hour in which nothing was asked between two of them.
    missed = np.zeros(N, bool)
    missed[20_000:20_200] = True
    at = np.arange(N) + np.where(np.arange(N) >= 20_100, 3_600, 0)
    assert found(missed, at) == [Stretch(20_000, 20_099), Stretch(20_100, 20_199)]


def test_the_usual_share_is_that_of_most_times() -> None:
    assert usual_share(np.zeros(N, bool), 0.03) == 0.002
    assert usual_share(quiet(0.01), 0.03) == pytest.approx(0.01, rel=0.2)
    assert usual_share(quiet(0.5), 0.03) == 0.03
    busy = quiet(0.005)
    busy[: N // 3] = True  # a third in trouble is not the usual
    assert usual_share(busy, 0.03) < 0.01
    assert usual_share(np.ones(40, bool), 0.03) == 0.03  # a minute of samples, all missed


def test_where_all_is_missed_all_is_one_stretch() -> None:
    assert found(np.ones(600, bool)) == [Stretch(0, 599)]
