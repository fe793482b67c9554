"""What each leg added in a stretch of time: the least of a place and all beyond it, less what came before."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.days.legs import leg_stretches
from tarnfell.core.legs import Role

nan = float("nan")
CHAIN: tuple[Role, ...] = ("gateway", "edge", "outside", "far-end")


def told(
    roles: tuple[Role, ...], sent: list[list[int]], lost: list[list[int]], added: list[list[float]]
) -> dict[str, tuple[list[float], list[float]]]:
    found = leg_stretches(roles, np.array(sent), np.array(lost), np.array(added))
    return {one.leg: (one.added_ms.tolist(), one.loss_pct.tolist()) for one in found}


def test_neighbours_differ_by_what_their_leg_adds() -> None:
    legs = told(CHAIN, [[100]] * 4, [[2], [2], [7], [7]], [[1], [1], [61], [81]])
    assert list(legs) == ["inside", "line", "beyond"]
    assert legs == {"inside": ([1], [2]), "line": ([0], [0]), "beyond": ([80], [5])}


def test_a_slow_hop_adds_nothing() -> None:
    legs = told(CHAIN, [[100]] * 4, [[0], [30], [0], [0]], [[1], [300], [2], [3]])
    assert legs == {"inside": ([1], [0]), "line": ([1], [0]), "beyond": ([1], [0])}


def test_what_lies_beyond_counts_by_the_far_end_and_by_others_only_without_it() -> None:
    bad_outside = told(CHAIN, [[100]] * 4, [[0], [0], [50], [0]], [[0], [0], [200], [0]])
    assert bad_outside["beyond"] == ([0], [0])
    bad_far = told(CHAIN, [[100]] * 4, [[0], [0], [0], [50]], [[0], [0], [0], [200]])
    assert bad_far["beyond"] == ([200], [50])
    alone = told(CHAIN[:3], [[100]] * 3, [[0], [0], [50]], [[0], [0], [200]])
    assert alone["beyond"] == ([200], [50])


def test_an_outage_has_loss_and_no_delay() -> None:
    legs = told(CHAIN, [[100]] * 4, [[0], [100], [100], [100]], [[0], [nan], [nan], [nan]])
    # That nothing but this was ever heard of them would make them mute: they answered at another time.
    assert list(legs) == ["inside"]
    legs = told(CHAIN, [[100, 100]] * 4, [[0, 0], [100, 0], [100, 0], [100, 0]], [[0, 0], [nan, 1], [nan, 1], [nan, 1]])
    assert legs["inside"] == ([0, 0], [0, 0])
    assert legs["line"][1] == [100, 0]
    assert np.isnan(legs["line"][0][0])
    assert legs["beyond"][1] == [0, 0]


@pytest.mark.parametrize(
    ("roles", "names"),
    [
        (("edge", "far-end"), ["inside or line", "beyond"]),
        (("gateway", "far-end"), ["inside", "unknown"]),
        (("far-end",), ["unknown"]),
        (("gateway",), ["inside"]),
    ],
)
def test_legs_that_no_place_parts_are_one(roles: tuple[Role, ...], names: list[str]) -> None:
    n = len(roles)
    assert list(told(roles, [[10]] * n, [[0]] * n, [[0.0]] * n)) == names


def test_what_was_not_measured_is_nothing_and_not_calm() -> None:
    legs = told(CHAIN, [[100, 0]] * 4, [[0, 0]] * 4, [[1, nan]] * 4)
    assert all(np.isnan(values[1]) for leg in legs.values() for values in leg)
    assert told(CHAIN, [[5]] * 4, [[5]] * 4, [[nan]] * 4) == {}
