"""A surveyed place: what its call and its echoes come to, and where the thresholds lie."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tarnfell.core.survey import CallWay, judge_place, loss_pct, series_of
from tarnfell.wire.kinds.look import LookSeries

SMALL = LookSeries("gateway", "", "192.0.2.1", 64, 100, 100, 0, min_ms=1, median_ms=2, p95_ms=4, max_ms=9)
LARGE = replace(SMALL, packet_bytes=1400)
FAR = replace(SMALL, role="far-end", host="farend.example", address="198.51.100.2", answered=0, lost=100)
GOOD = CallWay(4.3, 0.0, 3.0, 90.0)
ALL = (SMALL, FAR, LARGE, replace(FAR, packet_bytes=1400))


def lossy(one: LookSeries, lost: int) -> LookSeries:
    return replace(one, answered=100 - lost, lost=lost)


def test_a_place_where_nothing_stands_out() -> None:
    place = judge_place(ALL, GOOD, GOOD, 4.0)
    assert (place.acceptable, place.says, place.spoiled) == (True, (), ())


def test_the_call_is_held_against_the_target_each_way() -> None:
    place = judge_place(ALL, replace(GOOD, mos=4.0), replace(GOOD, mos=3.99, loss_pct=2.5, pdv_p95_ms=41), 4.0)
    assert place.acceptable is False
    assert place.says == ("Download had 3.99 MOS, the target is 4.0: 2.5 % lost, PDV p95 41 ms.",)
    silent = judge_place(ALL, CallWay(None, 100.0, None, None, "nothing arrived"), GOOD, 4.0)
    assert (silent.acceptable, silent.says) == (False, ("A call has no upload here: nothing arrived.",))


def test_without_a_call_nothing_is_said_of_calls() -> None:
    place = judge_place(ALL, None, None, 4.0, "The far end cannot be reached.")
    assert (place.acceptable, place.says) == (
        None, ("No call could be placed from here: The far end cannot be reached.",),
    )  # fmt: skip


def test_what_the_probe_spoiled_is_neither_good_nor_bad() -> None:
    place = judge_place(ALL, replace(GOOD, mos=2.0), GOOD, 4.0, spoiled=("It stood still for 80 ms.",))
    assert (place.acceptable, place.says[0]) == (None, "Invalid: It stood still for 80 ms.")


@pytest.mark.parametrize(
    ("small", "large", "said"),
    [
        (1, 3, []),
        (2, 4, ["2.0 % of 100 small packets to the gateway were not answered."]),
        (0, 3, ["Large packets lose more: 3.0 % of those of 1400 bytes, 0.0 % of those of 64."]),
        (0, 2, []),
        (1, 4, ["Large packets lose more: 4.0 % of those of 1400 bytes, 1.0 % of those of 64."]),
    ],
)
def test_loss_to_the_gateway(small: int, large: int, said: list[str]) -> None:
    place = judge_place((lossy(SMALL, small), lossy(LARGE, large)), GOOD, GOOD, 4.0)
    assert list(place.says) == said
    assert place.acceptable is True  # the call tells


@pytest.mark.parametrize(("p95", "swings"), [(21.9, False), (22.0, True)])
def test_delay_that_swings(p95: float, swings: bool) -> None:
    place = judge_place((replace(SMALL, p95_ms=p95), LARGE), GOOD, GOOD, 4.0)
    assert [one.startswith("Delay to the gateway swings: median 2.0 ms") for one in place.says] == [True] * swings


def test_few_echoes_say_no_per_cent_and_a_mute_gateway_is_no_fault() -> None:
    few = replace(SMALL, sent=19, answered=10, lost=9)
    assert loss_pct(few) is None
    assert loss_pct(replace(few, answered=11)) == 45.0
    assert judge_place((few,), GOOD, GOOD, 4.0).says == ()
    mute = tuple(replace(one, answered=0, lost=100) for one in (SMALL, LARGE))
    assert judge_place(mute, GOOD, GOOD, 4.0).says == ("The gateway answers no echo: the call alone tells.",)
    assert judge_place((), GOOD, GOOD, 4.0).says == ()


def test_sizes_are_told_apart_by_their_bytes() -> None:
    assert series_of(ALL, "gateway", large=False) == SMALL
    assert series_of(reversed(ALL), "gateway", large=True) == LARGE
    assert series_of((SMALL,), "gateway", large=True) is None
    assert series_of(ALL, "any", large=False) is None
