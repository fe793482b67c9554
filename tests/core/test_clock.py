"""Two clocks on one scale: from time stamps, from media, from the runs around; and how far off that may be."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.clock import (
    SHARED,
    UNKNOWN,
    ClockRelation,
    Exchanges,
    drift_ppm,
    estimate,
    estimate_from_media,
    settle,
)
from tarnfell.core.trace import Trace, build_trace


def exchanges(offset_ns: float, skew_ppm: float, queue_ns: float, seconds: int = 120, seed: int = 1) -> Exchanges:
    rng = np.random.default_rng(seed)
    t1 = np.arange(0, seconds * 1e9, 5e7)
    far = t1 + offset_ns + skew_ppm * 1e-6 * t1
    forth, back = (15e6 + rng.exponential(queue_ns, len(t1)) for _ in range(2))
    held = 80_000
    t4 = t1 + forth + held + back
    return Exchanges(*(x.astype(np.int64) for x in (t1, far + forth, far + forth + held, t4)))


@pytest.mark.parametrize("offset_ns", [0, 5e9, -3.7e12])
@pytest.mark.parametrize("skew_ppm", [0, 12, -80])
def test_clock_offset_and_skew_are_found(offset_ns: float, skew_ppm: float) -> None:
    found = estimate(exchanges(offset_ns, skew_ppm, queue_ns=2e6))
    assert found.kind == "estimated"
    assert found.skew_ppm == pytest.approx(skew_ppm, abs=4)
    assert abs(found.offset_us - offset_ns / 1000) / 1000 < found.uncertainty_ms
    assert found.uncertainty_ms == pytest.approx(15, abs=2)


def test_a_busy_queue_is_not_skew() -> None:
    assert abs(estimate(exchanges(0, 0, queue_ns=4e7)).skew_ppm) < 30


def test_clock_without_answers_is_unknown() -> None:
    empty = np.empty(0, np.int64)
    assert estimate(Exchanges(empty, empty, empty, empty)) is UNKNOWN


@pytest.mark.parametrize("seconds", [1, 5, 10, 19])
@pytest.mark.parametrize("skew_ppm", [100, -100])
def test_below_twenty_seconds_the_uncertainty_holds_what_could_not_be_measured(seconds: int, skew_ppm: float) -> None:
    """Half the round trip, and what crystals 100 ppm apart run away in that time."""
    found = estimate(exchanges(2e6, skew_ppm, queue_ns=0, seconds=seconds))
    assert found.skew_ppm == 0
    # The skew itself makes both floors fall together by half of what it ran away.
    assert found.uncertainty_ms == pytest.approx(15 + 0.05 * (seconds - 0.05), abs=0.01)
    still = estimate(exchanges(2e6, 0, queue_ns=0, seconds=seconds))
    assert still.uncertainty_ms == pytest.approx(15 + 0.1 * (seconds - 0.05), abs=0.01)
    at_end_us = 2000 + skew_ppm * seconds
    assert abs(found.offset_us - at_end_us) / 1000 < found.uncertainty_ms


def test_a_skew_that_queueing_hides_is_in_the_uncertainty() -> None:
    calm, busy = (estimate(exchanges(0, 0, queue_ns=q, seconds=60)) for q in (0, 3e7))
    assert calm.uncertainty_ms == pytest.approx(15, abs=0.01)
    assert busy.uncertainty_ms > 15 + 0.5


# From media


def media(
    far_ahead_us: float, skew_ppm: float, up_ms: float, down_ms: float, seconds: int = 60, seed: int = 3
) -> tuple[Trace, Trace]:
    """Both directions of one call, each end's times on its own clock."""
    rng = np.random.default_rng(seed)
    true = np.arange(seconds * 50) * 20_000.0 + 1_000_000

    def far(at: np.ndarray) -> np.ndarray:
        return at + far_ahead_us + skew_ppm * 1e-6 * (at - true[0])

    arrive_up = true + up_ms * 1000 + rng.exponential(2000, len(true))
    arrive_down = true + 7000 + down_ms * 1000 + rng.exponential(2000, len(true))
    numbers = np.arange(len(true))
    up = build_trace(numbers, true.astype(np.int64), numbers, far(arrive_up).astype(np.int64))
    down = build_trace(numbers, far(true + 7000).astype(np.int64), numbers, arrive_down.astype(np.int64))
    return up, down


@pytest.mark.parametrize("far_ahead_us", [0, -4_000_000, 86_400_000_000])
@pytest.mark.parametrize("skew_ppm", [0, 50, -50])
def test_media_both_ways_relates_the_clocks_as_time_stamps_would(far_ahead_us: float, skew_ppm: float) -> None:
    up, down = media(far_ahead_us, skew_ppm, 20, 20)
    found = estimate_from_media([up], [down])
    assert found.kind == "estimated"
    assert found.skew_ppm == pytest.approx(skew_ppm, abs=4)
    moved = found.on_senders_clock(up, up=True)
    assert moved.delay_us.min() / 1000 == pytest.approx(20, abs=0.3)
    assert np.percentile(moved.delay_us - moved.delay_us.min(), 95) / 1000 == pytest.approx(6, abs=0.6)
    back = found.on_senders_clock(down, up=False)
    assert back.delay_us.min() / 1000 == pytest.approx(20, abs=0.3)


def test_an_uneven_path_lies_within_what_media_say() -> None:
    found = estimate_from_media(*([t] for t in media(5_000, 0, 10, 150)))
    assert found.uncertainty_ms == pytest.approx(80, abs=0.5)
    assert abs(found.offset_us - 5_000) / 1000 <= found.uncertainty_ms
    assert found.offset_us == pytest.approx(5_000 + (10 - 150) / 2 * 1000, abs=300)


def test_one_direction_relates_nothing() -> None:
    up, down = media(0, 0, 20, 20)
    assert estimate_from_media([up], []) is UNKNOWN
    assert estimate_from_media([], [down]) is UNKNOWN
    assert estimate_from_media(*([t] for t in media(0, 0, 20, 20, seconds=3))) is UNKNOWN


def test_a_queue_in_some_windows_tilts_no_line() -> None:
    """Up the line packets queue for 40 ms in the second minute; the clocks do not drift."""
    plain = exchanges(0, 0, queue_ns=0, seconds=120)
    late = np.where(plain.t1 > 6e10, 40_000_000, 0)
    queued = Exchanges(plain.t1, plain.t2 + late, plain.t3 + late, plain.t4 + late)
    assert estimate(queued).skew_ppm == 0


# One direction's drift


def drifting(seconds: int, ppm: float, step_ms: float = 0.0, jitter_ms: float = 1.0, queue: bool = False) -> Trace:
    rng = np.random.default_rng(8)
    sent = np.arange(seconds * 50) * 20_000
    since_epoch = 1_790_000_000_000_000
    delay = 30_000 + sent * ppm * 1e-6 + rng.exponential(jitter_ms * 1000, len(sent))
    delay[len(sent) // 3 :] += step_ms * 1000
    if queue:
        delay += 100_000 * np.abs(np.sin(sent / 7e6))
    numbers = np.arange(len(sent))
    return build_trace(numbers, sent + since_epoch, numbers, (sent + delay).astype(np.int64) + since_epoch)


@pytest.mark.parametrize(
    ("trace", "expected"),
    [
        (drifting(1800, 50), pytest.approx(50, abs=1)),
        (drifting(1800, -50), pytest.approx(-50, abs=1)),
        (drifting(1800, 50, step_ms=-70), pytest.approx(50, abs=2)),
        (drifting(1800, 0, step_ms=70), pytest.approx(0, abs=1)),
        (drifting(40, 0, jitter_ms=5), pytest.approx(0, abs=60)),
        (drifting(600, 900), 0),
        (drifting(29, 50), None),
        (drifting(120, 0, queue=True), pytest.approx(0, abs=150)),
    ],
)
def test_drift_is_told_from_steps_and_queues(trace: Trace, expected: object) -> None:
    assert drift_ppm(trace) == expected


# The runs of one pair


def stood(at_min: float, offset_ms: float, uncertainty_ms: float) -> ClockRelation:
    return ClockRelation("estimated", offset_ms * 1000, 0.0, int(at_min * 60e6), uncertainty_ms)


def test_a_queue_through_a_whole_run_is_not_split_over_both_directions() -> None:
    """200 ms stood up the whole run: by itself it reads 100 up and 100 down."""
    calm = [stood(t, 5 + 0.002 * t, 10.2) for t in (0, 20, 60, 80)]
    queued = stood(40, 5.08 + 100, 110)
    found = settle(queued, [*calm, stood(41, 105, 111)])
    assert found.offset_us / 1000 == pytest.approx(5.08, abs=0.01)
    assert found.uncertainty_ms == pytest.approx(10.2, abs=0.1)
    assert found.reference_us == queued.reference_us


def test_how_clocks_wander_between_calm_runs_is_in_the_uncertainty() -> None:
    calm = [stood(t, offset, 10) for t, offset in ((0, 5), (20, 8), (60, 4), (80, 5))]
    found = settle(stood(40, 106, 110), calm)
    assert found.uncertainty_ms == pytest.approx(10 + 3.5, abs=0.6)


@pytest.mark.parametrize(
    ("own", "others"),
    [
        (stood(40, 105, 110), [stood(0, 5, 10), stood(60, 5, 10)]),  # two calm runs say nothing of how clocks wander
        (stood(40, 5, 10.9), [stood(t, 5, 10) for t in (0, 20, 60)]),  # calm itself
        (stood(40, 300, 110), [stood(t, 5, 10) for t in (0, 20, 60)]),  # a clock was set in between
        (SHARED, [stood(t, 5, 10) for t in (0, 20, 60)]),
        (UNKNOWN, [stood(t, 5, 10) for t in (0, 20, 60)]),
    ],
)
def test_a_run_s_own_estimate_stands(own: ClockRelation, others: list[ClockRelation]) -> None:
    assert settle(own, others) == own


@pytest.mark.parametrize(("scatter_us", "is_certain"), [(400, True), (20_000, False)])
def test_a_slope_is_one_where_its_stretches_agree_on_it(scatter_us: int, is_certain: bool) -> None:
    """30 ppm over twenty stretches of a minute, each as much faster or slower as chance has it: the median of their
    changes is good to a quarter of what one of them scatters by."""
    sent = np.arange(1200 * 50) * 20_000
    stretch = np.arange(len(sent)) * 20 // len(sent)
    delay = 300_000 + sent * 30e-6 + np.random.default_rng(4).normal(0, scatter_us, 20)[stretch]
    numbers = np.arange(len(sent))
    trace = build_trace(numbers, sent, numbers, np.rint(sent + delay).astype(np.int64))
    found = drift_ppm(trace)
    assert found == (pytest.approx(30, abs=10) if is_certain else 0)
