"""The adaptive buffer and the wideband scale."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.core import emodel, playout
from tarnfell.core.codecs import codec_table, find_codec
from tarnfell.core.quality import Criterion, criterion_for, judge, judge_seconds
from tarnfell.core.trace import Trace, build_trace

WIDE = [c for c in codec_table().values() if c.band == "wide"]


def trace(delay_ms: np.ndarray, lost: tuple[int, ...] = ()) -> Trace:
    sent = np.arange(len(delay_ms)) * 20_000
    arrived = np.array([i for i in range(len(delay_ms)) if i not in lost], dtype=np.int64)
    return build_trace(np.arange(len(sent)), sent, arrived, sent[arrived] + (delay_ms[arrived] * 1000).astype(np.int64))


def steady(seconds: int, spread_ms: float = 4) -> np.ndarray:
    return 30 + np.random.default_rng(1).uniform(0, spread_ms, seconds * 50)


def test_on_a_calm_line_it_becomes_shallow() -> None:
    found = playout.adaptive(trace(steady(12)), ceiling_ms=200)
    assert found.depth_ms[0] == 60
    assert list(found.depth_ms[:5]) == [60, 50, 40, 30, 20]
    assert found.depth_ms[-1] == playout.ADAPTIVE_FLOOR_MS
    assert found.late_count == 0


def test_a_swell_costs_its_first_second_and_then_is_followed() -> None:
    delay = steady(20)
    delay[10 * 50 : 15 * 50] += 120
    found = playout.adaptive(trace(delay), ceiling_ms=300)
    late_by_second = np.bincount(np.flatnonzero(found.late) // 50, minlength=20)
    assert late_by_second[10] == 50
    assert late_by_second[11:].sum() == 0
    assert found.depth_ms[11] == pytest.approx(120 + 4 + 5, abs=2)
    # It remembers for four seconds, then falls by ten a second.
    assert found.depth_ms[18] == pytest.approx(found.depth_ms[15], abs=1)
    assert found.depth_ms[19] == pytest.approx(found.depth_ms[18] - 10)


def test_its_ceiling_and_floor_hold() -> None:
    delay = steady(10)
    delay[100:] += 500
    found = playout.adaptive(trace(delay), ceiling_ms=80)
    assert found.depth_ms.max() == 80
    assert playout.adaptive(trace(steady(10)), ceiling_ms=10).depth_ms.max() == 10
    with pytest.raises(ValueError, match="choose 0 to 1000 ms"):
        playout.adaptive(trace(steady(1)), ceiling_ms=2000)


def test_it_uses_nothing_the_listener_could_not_know() -> None:
    """What comes later changes no earlier depth."""
    delay = steady(12)
    changed = delay.copy()
    changed[8 * 50 :] += 90
    before, after = (playout.adaptive(trace(d), 300).depth_ms for d in (delay, changed))
    assert list(before[:9]) == list(after[:9])
    assert before[9] != after[9]


def test_its_mean_depth_is_in_the_delay_to_the_ear() -> None:
    calm = trace(steady(12))
    fixed = judge(calm, Criterion(0, 25.1, 20, buffer_ms=200))
    found = judge(calm, Criterion(0, 25.1, 20, buffer_ms=200, adaptive=True))
    depth = playout.adaptive(calm, 200).mean_depth_ms
    assert found.mouth_to_ear_ms is not None
    assert fixed.mouth_to_ear_ms is not None
    assert found.mouth_to_ear_ms == pytest.approx(fixed.mouth_to_ear_ms - 200 + depth)
    assert (found.mos or 0) > (fixed.mos or 0)
    assert judge_seconds(calm, Criterion(0, 25.1, 20, adaptive=True)).depth_ms[3] == 30


def test_nothing_arrived() -> None:
    found = playout.adaptive(trace(steady(3), lost=tuple(range(150))), 100)
    assert found.effective_loss_pct == 100


@given(st.lists(st.floats(0, 400), min_size=1, max_size=400), st.integers(0, 400))
def test_a_higher_ceiling_never_loses_more(delays: list[float], ceiling: int) -> None:
    one = trace(np.array(delays))
    assert playout.adaptive(one, ceiling + 100).late_count <= playout.adaptive(one, ceiling).late_count


# The wideband scale


def test_wideband_starts_at_129_and_ends_where_the_cubic_does() -> None:
    """G.107.1: R = 129 with no impairment; there MOS is 4.5 on the wideband scale."""
    R = emodel.rate_wideband(0, 0, 1, 0, 4.3)
    assert float(R) == 129
    assert float(emodel.mos_wideband_from_r(R)) == pytest.approx(4.5)


def test_the_best_narrowband_call_on_the_wideband_scale() -> None:
    """R 93.2 is 72.2 of a hundred there: about 3.7, as listening tests of mixed bands show."""
    assert float(emodel.mos_wideband_from_r(93.2)) == pytest.approx(3.70, abs=0.02)


def test_delay_and_loss_cost_the_same_terms_as_in_narrowband() -> None:
    Idd = float(emodel.pure_delay(250))
    Ie = float(emodel.equipment_impairment(2, 1.5, 13, 4.3))
    assert float(emodel.rate_wideband(250, 2, 1.5, 13, 4.3)) == pytest.approx(129 - Idd - Ie)


@pytest.mark.parametrize("codec", WIDE, ids=lambda c: c.name)
def test_wideband_codecs_stand_between_the_best_narrowband_and_the_ceiling(codec) -> None:  # type: ignore[no-untyped-def]
    clean = trace(steady(10))
    criterion = criterion_for(codec, codec.intervals_ms()[0])
    found = judge(clean, criterion)
    assert found.r_factor is not None
    assert 93.2 < found.r_factor <= 129
    assert found.mos == pytest.approx(float(emodel.mos_wideband_from_r(found.r_factor)))
    assert 3.7 < found.mos < 4.5
    assert codec.standing == "planning"
    lossy = judge(trace(steady(10), lost=tuple(range(0, 500, 25))), criterion)
    assert (lossy.r_factor or 0) < found.r_factor


def test_narrowband_stays_on_its_hundred() -> None:
    found = judge(trace(steady(10)), criterion_for(find_codec("g711a"), 20))
    assert (found.r_factor or 0) <= 100
