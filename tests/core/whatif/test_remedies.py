"""Traces changed by a remedy, against the same traffic through an outlet that has it."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.picture import PictureCriterion, judge_picture
from tarnfell.core.quality import StreamQuality, criterion_for, judge
from tarnfell.core.trace import NOT_ARRIVED, Trace
from tarnfell.core.video import find_profile
from tarnfell.core.whatif.queues import Queue, every_nth, queue_of
from tarnfell.core.whatif.remedies import FULL_PACKET_BYTES, larger_line, media_first
from tests.core.whatif.outlet import BASE_MS, RATE_KBPS, pictures, through, traffic

CRITERION = criterion_for(find_codec("g711a"), 20)


def quality(trace: Trace) -> StreamQuality:
    return judge(trace, CRITERION)


def queue(trace: Trace, calm_ms: float | None = None) -> Queue:
    found = queue_of(trace, calm_ms)
    assert found is not None
    return found


def even(delay_ms: list[float | None]) -> Trace:
    """A packet every 20 ms; None: lost."""
    sent = np.arange(len(delay_ms), dtype=np.int64) * 20_000
    recv = [
        NOT_ARRIVED if ms is None else at + round(ms * 1000) for at, ms in zip(sent.tolist(), delay_ms, strict=True)
    ]
    return Trace(np.arange(len(sent)), sent, np.array(recv, np.int64))


@pytest.mark.parametrize("burst", [1.1, 1.4, 2.0])
def test_media_first_is_what_an_outlet_that_sends_it_first_makes(burst: float) -> None:
    for seed in range(4):
        load = traffic(seed, burst)
        before, after = through(load), through(load, first=True)
        told = quality(media_first(before, queue(before), RATE_KBPS))
        true = quality(after)
        assert (quality(before).mos or 0) < 3.5
        assert told.mos == pytest.approx(true.mos, abs=0.06)
        assert told.metrics.loss_pct == pytest.approx(true.metrics.loss_pct, abs=0.3)
        # What is too short to be read as a queue is left: on the safe side, and within a buffer's reach.
        assert -2 < (told.metrics.pdv_p99_ms or 0) - (true.metrics.pdv_p99_ms or 0) < 15


@pytest.mark.parametrize(("burst", "factor"), [(1.1, 2.0), (1.4, 2.0), (1.4, 4.0), (2.0, 3.0)])
def test_a_line_that_is_large_enough_is_told_as_one(burst: float, factor: float) -> None:
    for seed in range(4):
        load = traffic(seed, burst)
        before, after = through(load), through(load, rate=factor)
        told, true = quality(larger_line(before, queue(before), factor)), quality(after)
        assert told.mos == pytest.approx(true.mos, abs=0.06)
        assert told.metrics.loss_pct == pytest.approx(true.metrics.loss_pct, abs=0.3)


@pytest.mark.parametrize(("burst", "factor"), [(1.4, 1.15), (2.0, 1.3), (3.0, 2.0)])
def test_a_line_that_is_still_too_small_stays_bad(burst: float, factor: float) -> None:
    for seed in range(4):
        load = traffic(seed, burst)
        before, after = through(load), through(load, rate=factor)
        low, high = (quality(larger_line(before, queue(before), max(1.0, factor * of))) for of in (0.9, 1.1))
        assert (low.mos or 1) - 0.3 <= (quality(after).mos or 1) <= (high.mos or 1) + 0.5
        assert (quality(after).mos or 1) < 3.9
        assert (low.mos or 1) < 3.6


@pytest.mark.parametrize("name", ["thumbnail", "360p", "720p30", "1080p30"])
@pytest.mark.parametrize("burst", [1.1, 1.4])
def test_pictures_come_as_through_an_outlet_that_has_the_remedy(name: str, burst: float) -> None:
    """Frames come as bursts of packets, which stand behind each other besides."""
    profile = find_profile(name)

    def score(trace: Trace) -> float:
        return judge_picture(trace, profile, PictureCriterion()).score

    for seed in range(3):
        load = pictures(seed, burst, profile)
        before = through(load)
        found = queue(before)
        assert score(before) < 1.5
        assert score(media_first(before, found, RATE_KBPS)) == pytest.approx(score(through(load, first=True)), abs=0.3)
        for factor in (2.0, 4.0):
            true = score(through(load, rate=factor))
            assert score(larger_line(before, found, factor)) == pytest.approx(true, abs=0.3)


def test_a_line_too_small_for_pictures_stays_bad_and_large_frames_are_told_with_care() -> None:
    profile = find_profile("1080p30")
    load = pictures(1, 3.0, profile)
    before = through(load)
    told = judge_picture(larger_line(before, queue(before), 1.5), profile, PictureCriterion()).score
    assert told < 1.5
    screen = find_profile("screen")
    for burst in (1.1, 1.4, 2.0):
        load = pictures(2, burst, screen)
        before = through(load)
        told, true = (
            judge_picture(trace, screen, PictureCriterion()).score
            for trace in (media_first(before, queue(before), RATE_KBPS), through(load, first=True))
        )
        assert 1.2 < told <= true + 0.5


def test_loss_of_another_link_stays_whatever_is_done_to_the_queue() -> None:
    load = traffic(5, 1.4)
    before, true = through(load, loss=0.05), through(load, loss=0.05, first=True)
    told = quality(media_first(before, queue(before), RATE_KBPS, mended=0.0))
    best = quality(media_first(before, queue(before), RATE_KBPS, mended=1.0))
    assert best.metrics.loss_pct < quality(true).metrics.loss_pct < told.metrics.loss_pct
    quiet = through(traffic(5, 0.2), loss=0.05)
    assert not queue(quiet).dropped(quiet).any()


def test_scatter_is_no_queue_and_stays() -> None:
    chance = np.random.default_rng(1)
    scatter = chance.exponential(15.0, 3000)
    trace = even((BASE_MS + scatter).tolist())
    found = queue(trace)
    assert not found.stands
    assert media_first(trace, found, RATE_KBPS) is trace
    assert larger_line(trace, found, 3.0) is trace


def test_a_queue_is_what_lasts_and_the_rest_stays_with_its_packet() -> None:
    steady = [10.0] * 50 + [110.0] * 100 + [10.0] * 50
    steady[100] = 150.0
    found = queue(even(steady))
    assert found.wait_ms[[0, 60, 100, 140, 199]].tolist() == [0, 100, 100, 100, 0]
    assert found.scatter_ms[100] == pytest.approx(40)
    told = media_first(even(steady), found, 1514.0)
    assert (told.delay_us / 1000)[[0, 60, 100, 199]].tolist() == [10, 18, 58, 10]


def test_a_queue_shorter_than_its_window_is_left() -> None:
    short = [10.0] * 50 + [110.0] * 8 + [10.0] * 50
    assert not queue(even(short)).stands
    assert queue(even([10.0] * 50 + [110.0] * 10 + [10.0] * 50)).stands
    assert not queue(even([10.0] * 50 + [29.9] * 20 + [10.0] * 50)).stands
    assert queue(even([10.0] * 50 + [30.0] * 20 + [10.0] * 50)).stands


def test_of_packets_far_apart_a_queue_lasts_three() -> None:
    """So few come within the window that two of them would be one."""

    def seldom(queued: int) -> Trace:
        delay_ms = [10.0] * 50 + [110.0] * queued + [10.0] * 50
        sent = np.arange(len(delay_ms)) * 150_000
        return Trace(np.arange(len(sent)), sent, sent + np.round(np.array(delay_ms) * 1000).astype(np.int64))

    assert [queue(seldom(count)).stands for count in (2, 3)] == [False, True]


def test_a_queue_that_never_empties_is_seen_by_what_the_way_has_without() -> None:
    always = even([210.0] * 100)
    assert not queue(always).stands
    assert queue(always, calm_ms=10.0).wait_ms.tolist() == [200.0] * 100
    assert not queue(always, calm_ms=191.0).stands
    assert queue_of(even([None] * 10)) is None


def test_only_losses_of_a_full_queue_come_back_and_as_many_as_asked() -> None:
    delay: list[float | None] = [10.0] * 50 + [210.0] * 100 + [10.0] * 50
    for at in (10, 60, 70, 80, 90, 180):
        delay[at] = None
    trace = even(delay)
    found = queue(trace)
    assert np.flatnonzero(found.dropped(trace)).tolist() == [60, 70, 80, 90]
    for mended, left in ((1.0, [10, 180]), (0.5, [10, 60, 80, 180]), (0.0, [10, 60, 70, 80, 90, 180])):
        told = media_first(trace, found, RATE_KBPS, mended)
        assert np.flatnonzero(~told.arrived).tolist() == left
    at_most = FULL_PACKET_BYTES * 8 / RATE_KBPS
    told = media_first(trace, found, RATE_KBPS)
    assert told.delay_us.max() / 1000 == pytest.approx(10 + at_most, abs=0.01)
    assert len(told) == len(trace)


@pytest.mark.parametrize(("share", "count"), [(0.0, 0), (0.25, 5), (0.5, 10), (0.9, 18), (1.0, 20)])
def test_a_share_is_taken_evenly(share: float, count: int) -> None:
    chosen = np.zeros(100, bool)
    chosen[20:60:2] = True
    taken = every_nth(chosen, share)
    assert taken.sum() == count
    assert not (taken & ~chosen).any()


def test_a_smaller_line_is_not_told() -> None:
    trace = even([10.0, 100.0, 10.0])
    with pytest.raises(ValueError, match="smaller line"):
        larger_line(trace, queue(trace), 0.99)
