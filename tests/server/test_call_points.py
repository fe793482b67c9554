"""Which packets of a long call its page draws: of each stretch the extremes, and one of each fate."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.server.load.calls import _thin


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
    told = _thin(pdv, late, 40)
    assert told.tolist() == plainly(pdv.tolist(), late.tolist(), 40)
    assert len(told) <= 40
