"""Stream metrics against plain, slow versions of their definitions, on arbitrary traces."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.core import playout, streams
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import Criterion, criterion_for, explain, judge, judge_seconds
from tarnfell.core.trace import GIVE_UP_US, NOT_ARRIVED, Trace, TraceError, build_trace

CRITERION = Criterion(ie=0, bpl=25.1, ptime_ms=20)


@st.composite
def traces(draw: st.DrawFn, least: int = 1, most: int = 80) -> Trace:
    """Packets every 20 ms, each delayed 0…300 ms or lost, some doubled."""
    delays = draw(st.lists(st.one_of(st.none(), st.integers(0, 300_000)), min_size=least, max_size=most))
    first = draw(st.integers(0, 1 << 20))
    sent = np.arange(len(delays)) * 20_000 + 1_000_000
    seq = np.arange(first, first + len(delays))
    arrivals = [(int(seq[i]), int(sent[i]) + d) for i, d in enumerate(delays) if d is not None]
    doubled = draw(st.lists(st.sampled_from(arrivals), max_size=5)) if arrivals else []
    arrivals += [(s, at + 1000) for s, at in doubled]
    order = draw(st.permutations(arrivals))
    return build_trace(seq, sent, np.array([a for a, _ in order], int), np.array([b for _, b in order], int))


def lossy(pattern: str) -> np.ndarray:
    return np.array([c == "x" for c in pattern])


@given(traces())
def test_counts_stay_in_range(trace: Trace) -> None:
    found = judge(trace, CRITERION)
    m = found.metrics
    assert m.lost + m.received == m.sent == len(trace)
    assert 0 <= m.loss_pct <= found.effective_loss_pct <= 100
    assert m.burst_ratio >= 1
    assert m.longest_loss_run <= m.lost
    if found.mos is not None:
        assert 1 <= found.mos <= 4.5
        assert 0 <= found.r_factor <= 100  # type: ignore[operator]


@given(traces(least=2), st.randoms())
def test_order_of_arrival_records_is_irrelevant(trace: Trace, random) -> None:  # type: ignore[no-untyped-def]
    index = np.flatnonzero(trace.arrived)
    doubled = np.concatenate((index, index[:3]))
    times = trace.recv_us[doubled] + np.concatenate((np.zeros(len(index), int), np.full(len(doubled) - len(index), 7)))
    order = list(range(len(doubled)))
    random.shuffle(order)
    again = build_trace(trace.seq, trace.sent_us, trace.seq[doubled][order], times[order])
    assert judge(again, CRITERION).fields() | {"duplicates": 0} == judge(trace, CRITERION).fields() | {"duplicates": 0}


@given(traces())
def test_jitter_is_rfc_3550(trace: Trace) -> None:
    transit = [int(trace.recv_us[i] - trace.sent_us[i]) for i in trace.arrival_order]
    jitter, highest = 0.0, 0.0
    for before, after in pairwise(transit):
        jitter += (abs(after - before) - jitter) / 16
        highest = max(highest, jitter)
    found = streams.measure(trace)
    assert found.jitter_ms == pytest.approx(jitter / 1000)
    assert found.jitter_max_ms == pytest.approx(highest / 1000)


@pytest.mark.parametrize("count", [2, 256, 257, 258, 513, 1500])
def test_jitter_of_a_long_stream_is_one_series(count: int) -> None:
    delays = np.random.default_rng(count).exponential(9000, count).astype(np.int64)
    delays[count // 2] += 2_000_000
    sent = np.arange(count) * 3_000_000  # so far apart that none overtakes
    found = streams.jitter_series_ms(Trace(np.arange(count), sent, sent + delays))
    jitter, plain = 0.0, []
    for before, after in pairwise(delays.tolist()):
        jitter += (abs(after - before) - jitter) / 16
        plain.append(jitter / 1000)
    assert found.tolist() == pytest.approx(plain)


@given(traces())
def test_reordering_is_rfc_4737(trace: Trace) -> None:
    expected, count = 0, 0
    for index in trace.arrival_order.tolist():
        if index < expected:
            count += 1
        else:
            expected = index + 1
    assert streams.reordered(trace) == count


@given(traces(least=3))
def test_more_loss_never_raises_quality(trace: Trace) -> None:
    """One more packet lost never sounds better, unless the losses fall apart by it (lower BurstR) or the buffer,
    which starts from the packets that came, stands less deep without it."""
    found = judge(trace, CRITERION)
    if found.mos is None or found.metrics.received < 2:
        return
    slowest = int(np.flatnonzero(trace.arrived)[np.argmax(trace.delay_us)])
    fewer = Trace(trace.seq, trace.sent_us, np.where(np.arange(len(trace)) == slowest, NOT_ARRIVED, trace.recv_us))
    worse = judge(fewer, CRITERION)
    assert worse.metrics.loss_pct > found.metrics.loss_pct
    if worse.mos is None or (worse.mouth_to_ear_ms or 0) < (found.mouth_to_ear_ms or 0):
        return
    if worse.effective_burst_ratio >= found.effective_burst_ratio:
        assert worse.mos <= found.mos + 1e-9


@given(traces())
def test_deeper_buffer_never_makes_more_packets_late(trace: Trace) -> None:
    late = [playout.fixed(trace, depth).late_count for depth in (0, 20, 60, 200, 400)]
    assert late == sorted(late, reverse=True)
    assert late[-1] == 0


@given(traces())
def test_seconds_add_up_to_the_call(trace: Trace) -> None:
    seconds = judge_seconds(trace, CRITERION)
    whole = judge(trace, CRITERION)
    assert seconds.sent.sum() == whole.metrics.sent
    assert seconds.lost.sum() == whole.metrics.lost
    assert seconds.late.sum() == whole.late
    assert ((seconds.mos >= 1) & (seconds.mos <= 4.5)).all()


@given(traces())
def test_explanation_adds_up_to_what_is_missing(trace: Trace) -> None:
    criterion = criterion_for(find_codec("g729a"), 20)
    found = judge(trace, criterion)
    lost = explain(found, criterion)
    if lost is None:
        assert found.mos is None
    else:
        assert lost.best - lost.codec - lost.delay - lost.loss - lost.late == pytest.approx(found.mos)
        assert min(lost.codec, lost.delay, lost.loss, lost.late) >= -1e-9


@pytest.mark.parametrize(("lost", "late"), [(20, 10), (5, 15), (0, 9), (7, 0)])
def test_loss_and_lateness_share_what_they_cost_by_their_numbers(lost: int, late: int) -> None:
    sent = np.arange(1000) * 20_000
    recv = sent + 30_000
    recv[100 : 100 + 20 * late : 20] += 400_000
    recv[110 : 110 + 20 * lost : 20] = NOT_ARRIVED
    found = judge(Trace(np.arange(1000), sent, recv), CRITERION)
    told = explain(found, CRITERION)
    assert told is not None
    assert (found.metrics.lost, found.late) == (lost, late)
    assert told.loss + told.late > 0
    assert told.loss / (told.loss + told.late) == pytest.approx(lost / (lost + late))


def test_one_dead_second_shows() -> None:
    sent = np.arange(500) * 20_000
    recv = np.where((np.arange(500) >= 200) & (np.arange(500) < 250), NOT_ARRIVED, sent + 30_000)
    seconds = judge_seconds(Trace(np.arange(500), sent, recv), CRITERION)
    assert seconds.mos[4] == 1.0
    assert seconds.mos[3] > 4.3
    assert np.isnan(seconds.delay_p50_ms[4])


@pytest.mark.parametrize(
    ("pattern", "ratio"),
    [("..........", 1.0), ("x.........", 1.0), ("xx........", 1.6), ("xx....xx..", 1.2), ("x" * 10, 1.0)],
)
def test_burst_ratio(pattern: str, ratio: float) -> None:
    assert streams.burst_ratio(lossy(pattern)) == pytest.approx(ratio)


def test_bursts_and_gaps_are_rfc_3611() -> None:
    """Two losses 9 apart are one burst of 10 packets; a loss alone with 16 received beside it belongs to the gap."""
    pattern = "." * 20 + "x" + "." * 8 + "x" + "." * 30 + "x" + "." * 39
    found = streams.bursts(lossy(pattern), ptime_ms=20)
    assert found.burst_ms == 10 * 20
    assert found.burst_density_pct == pytest.approx(20)
    assert found.gap_density_pct == pytest.approx(100 / 90)
    assert found.gap_ms == pytest.approx(45 * 20)
    assert streams.bursts(lossy("." * 50), 20) == streams.Bursts(0, 0, 0, 1000)


def test_ipdv_only_between_neighbours_that_arrived() -> None:
    trace = Trace(np.arange(4), np.arange(4) * 20_000, np.array([5_000, 27_000, NOT_ARRIVED, 66_000]))
    assert streams.ipdv_ms(trace).tolist() == [2.0]


def test_packet_after_the_cut_off_is_lost() -> None:
    sent = np.array([0, 20_000])
    in_time = build_trace(np.arange(2), sent, np.arange(2), np.array([10_000, 20_000 + GIVE_UP_US]))
    too_late = build_trace(np.arange(2), sent, np.arange(2), np.array([10_000, 20_001 + GIVE_UP_US]))
    assert in_time.arrived.tolist() == [True, True]
    assert too_late.arrived.tolist() == [True, False]


def test_clocks_apart_do_not_make_packets_late() -> None:
    hours = 3_600_000_000 * 7
    sent = np.arange(10) * 20_000
    trace = build_trace(np.arange(10), sent, np.arange(10), sent + hours + 5000)
    assert trace.arrived.all()


@pytest.mark.parametrize(
    ("seq", "sent", "arrival", "words"),
    [
        ([], [], [], "no packet"),
        ([1, 1], [0, 1], [], "must rise"),
        ([1, 2], [5, 1], [], "backwards at sequence number 2"),
        ([1, 2], [0, 1], [9], "9 arrived but was never sent"),
    ],
)
def test_traces_that_contradict_themselves(seq: list[int], sent: list[int], arrival: list[int], words: str) -> None:
    with pytest.raises(TraceError, match=words):
        build_trace(np.array(seq, int), np.array(sent, int), np.array(arrival, int), np.zeros(len(arrival), int))
