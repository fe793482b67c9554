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
    assert list(found.depth_ms[:6]) == pytest.approx([60, 50, 40, 30, 20, 20], abs=2.1)  # its base settles meanwhile
    assert found.depth_ms[-1] == playout.ADAPTIVE_FLOOR_MS
    assert found.late_count == 0


def test_a_swell_costs_its_first_second_and_then_is_followed() -> None:
    delay = steady(20)
    delay[10 * 50 : 15 * 50] += np.linspace(100, 140, 250)
    found = playout.adaptive(trace(delay), ceiling_ms=300)
    late_by_second = np.bincount(np.flatnonzero(found.late) // 50, minlength=20)
    assert late_by_second[10] == 50
    assert late_by_second[11:].max() <= 20
    assert found.depth_ms[11] == pytest.approx(100 + 8 + 4 + 5, abs=2)
    # It remembers for four seconds, then falls by ten a second.
    assert found.depth_ms[18] == pytest.approx(found.depth_ms[15], abs=1)
    assert found.depth_ms[19] == pytest.approx(found.depth_ms[18] - 10)


def stepped(step_ms: float, seconds: int = 60, at_s: int = 30, steady_ms: float = 2) -> Trace:
    delay = 100 + np.random.default_rng(2).uniform(0, steady_ms, seconds * 50)
    delay[at_s * 50 :] += step_ms
    return trace(delay)


@pytest.mark.parametrize("adaptive", [False, True])
def test_a_shorter_route_costs_nothing(adaptive: bool) -> None:
    """What came before it was in time by the only route there was."""
    call = stepped(-70)
    found = judge(call, Criterion(0, 25.1, 20, adaptive=adaptive))
    assert found.late == 0
    assert found.metrics.pdv_p95_ms == pytest.approx(71, abs=2)
    assert (found.mos or 0) > 4.25
    # Half the call had the long way to the ear, half the short one.
    assert playout.fixed(call).mean_base_ms == pytest.approx(100 - 35, abs=0.5)
    assert judge(call, Criterion(0, 25.1, 20)).mouth_to_ear_ms == pytest.approx(65 + 60 + 20, abs=0.5)


def test_a_longer_route_is_followed_after_two_seconds() -> None:
    late = np.flatnonzero(playout.fixed(stepped(70)).late) // 50
    assert set(late.tolist()) == {30, 31}
    assert len(late) == 100
    adaptive = np.flatnonzero(playout.adaptive(stepped(70), 200).late) // 50
    assert set(adaptive.tolist()) == {30}
    # A step within the buffer costs nothing, and the buffer is as deep after it as it was before.
    within = playout.fixed(stepped(40))
    assert within.late_count == 0
    assert within.base_ms[[29, 31, 33]] == pytest.approx([100, 100, 140], abs=0.2)


@pytest.mark.parametrize(("step_ms", "steady_ms", "followed"), [(9, 1, False), (11, 1, True), (70, 60, False)])
def test_what_is_a_route_and_what_is_not(step_ms: float, steady_ms: float, followed: bool) -> None:
    delay = 100 + np.random.default_rng(3).uniform(0, 0.1, 60 * 50)
    delay[30 * 50 :] += step_ms + np.random.default_rng(4).uniform(0, steady_ms, 30 * 50)
    if steady_ms > 5:  # a queue's floor moves
        delay[30 * 50 :] += np.repeat(np.tile([0.0, 8.0], 60), 13)[: 30 * 50]
    base = playout.fixed(trace(delay)).base_ms
    assert (base[40] > 105) == followed


@pytest.mark.parametrize(("spread_ms", "followed"), [(4.9, True), (5.1, False)])
def test_a_new_level_must_be_steady(spread_ms: float, followed: bool) -> None:
    delay = np.full(60 * 50, 100.0)
    delay[30 * 50 :] += 50 + np.repeat(np.tile([0.0, spread_ms], 15), 50)
    base = playout.base_of(trace(delay))
    assert (base[-1] > 140) == followed


def test_a_level_seen_only_now_and_then_is_no_route() -> None:
    """Eight quarter seconds with packets, spread over a minute of outage, are not two seconds."""
    delay = np.full(60 * 50, 100.0)
    delay[30 * 50 :] += 50
    lost = tuple(i for i in range(30 * 50, 60 * 50) if (i // 12) % 8)
    assert playout.base_of(trace(delay, lost))[-1] == 100


def test_a_drifting_clock_is_followed() -> None:
    """50 ppm over half an hour are 90 ms: a receiver keeps up, whichever clock is the faster one."""
    drift = np.linspace(0, 90, 1800 * 50)
    for delay in (30 + drift, 120 - drift):
        assert playout.fixed(trace(delay)).late_count == 0


@pytest.mark.parametrize("adaptive", [False, True])
def test_nothing_still_to_come_makes_a_packet_late(adaptive: bool) -> None:
    rng = np.random.default_rng(5)
    delay = 30 + rng.gamma(2, 15, 40 * 50)
    for change in (-29.0, -12.0, 40.0):
        changed = delay.copy()
        changed[20 * 50 :] += change
        before, after = (
            playout.adaptive(trace(d), 80) if adaptive else playout.fixed(trace(d), 40) for d in (delay, changed)
        )
        was, now = before.late[: 20 * 50], after.late[: 20 * 50]
        assert was.any()
        if adaptive:
            assert list(was) == list(now), change
        assert not (now & ~was).any(), change


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
    calm = trace(np.full(12 * 50, 30.0))
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
    assert codec.origin == "planning"
    lossy = judge(trace(steady(10), lost=tuple(range(0, 500, 25))), criterion)
    assert (lossy.r_factor or 0) < found.r_factor


def test_narrowband_stays_on_its_hundred() -> None:
    found = judge(trace(steady(10)), criterion_for(find_codec("g711a"), 20))
    assert (found.r_factor or 0) <= 100
