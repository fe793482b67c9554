"""What the core computes on whole arrays or in closed form, against its definition written out step by step."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from scipy import stats as scipy_stats

from tarnfell.core import emodel, playout, streams
from tarnfell.core.codecs import codec_table, find_codec
from tarnfell.core.need import need_of
from tarnfell.core.quality import Criterion, criterion_for, judge, judge_seconds, worst_second_mos
from tarnfell.core.rates import Link, call_rate
from tarnfell.core.staircase import staircase
from tarnfell.core.stats import calls_to_claim, concurrent_calls, erlang_b, wilson
from tarnfell.core.trace import NOT_ARRIVED, Trace, build_trace

LOST = st.lists(st.booleans(), min_size=1, max_size=120)


@st.composite
def calls(draw: st.DrawFn) -> Trace:
    """Some seconds of a call: calm, swollen or gone, with holes."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32)))
    delays: list[float] = []
    for base, spread, gone in draw(
        st.lists(
            st.tuples(st.integers(0, 250), st.integers(0, 80), st.sampled_from([0, 0, 0.02, 0.3, 1])),
            min_size=1,
            max_size=9,
        )
    ):
        one = 20 + base + rng.uniform(0, spread, 50)
        delays += np.where(rng.random(50) < gone, np.nan, one).tolist()
    last = draw(st.integers(1, len(delays)))
    sent = np.arange(last) * 20_000 + 5_000_000
    arrived = [i for i in range(last) if not math.isnan(delays[i])]
    arrivals = np.array([sent[i] + int(delays[i] * 1000) for i in arrived], dtype=np.int64)
    return build_trace(np.arange(last), sent, np.array(arrived, dtype=np.int64), arrivals)


# Streams


@given(LOST)
def test_burst_ratio_is_mean_run_over_mean_random_run(lost: list[bool]) -> None:
    runs = [len(run) for run in "".join("x" if one else "." for one in lost).replace(".", " ").split()]
    share = sum(runs) / len(lost)
    expected = 1.0
    if runs and share < 1:
        expected = max(1.0, (sum(runs) / len(runs)) / (1 / (1 - share)))
    assert streams.burst_ratio(np.array(lost)) == pytest.approx(expected)


@given(st.lists(st.sampled_from([False] * 12 + [True]), min_size=1, max_size=300))
def test_bursts_by_walking_from_packet_to_packet(lost: list[bool]) -> None:
    """RFC 3611 §4.7.2: sixteen received in a row end a burst; a loss with so many on both sides is the gap's own."""
    bursts: list[tuple[int, int, int]] = []  # first, last, losses
    for at, gone in enumerate(lost):
        if not gone:
            continue
        if bursts and at - bursts[-1][1] - 1 < 16:
            first, _, losses = bursts[-1]
            bursts[-1] = (first, at, losses + 1)
        else:
            bursts.append((at, at, 1))
    real = [b for b in bursts if b[2] > 1]
    in_burst = sum(last - first + 1 for first, last, _ in real)
    found = streams.bursts(np.array(lost), 20)
    if real:
        assert found.burst_ms == pytest.approx(20 * in_burst / len(real))
        assert found.burst_density_pct == pytest.approx(100 * sum(b[2] for b in real) / in_burst)
    else:
        assert (found.burst_ms, found.burst_density_pct) == (0, 0)
    outside = [(a[1] + 1, b[0]) for a, b in zip([(0, -1, 0), *real], [*real, (len(lost), 0, 0)], strict=True)]
    gaps = [end - begin for begin, end in outside if end > begin]
    if gaps:
        assert found.gap_ms == pytest.approx(20 * sum(gaps) / len(gaps))
        assert found.gap_density_pct == pytest.approx(100 * sum(b[2] for b in bursts if b[2] == 1) / sum(gaps))


# The listener's buffer


@given(calls(), st.sampled_from([20.0, 60.0, 150.0, 400.0]))
def test_the_adaptive_buffer_second_by_second(trace: Trace, ceiling: float) -> None:
    floor = min((r - s for s, r in zip(trace.sent_us, trace.recv_us, strict=True) if r != NOT_ARRIVED), default=0)
    by_second: dict[int, list[float]] = {}
    for sent, received in zip(trace.sent_us, trace.recv_us, strict=True):
        second = by_second.setdefault(int(sent - trace.sent_us[0]) // 1_000_000, [])
        if received != NOT_ARRIVED:
            second.append((received - sent - floor) / 1000)
    depths: list[float] = []
    for number in range(len(by_second)):
        if number == 0:
            depths.append(min(60.0, ceiling))
            continue
        before = [by_second[k] for k in range(max(0, number - 4), number)]
        wanted = max(np.percentile(one, 98) + 5 if one else 0.0 for one in before)
        depths.append(min(max(wanted, depths[-1] - 10, min(20.0, ceiling)), ceiling))
    found = playout.adaptive(trace, ceiling)
    assert found.depth_ms.tolist() == pytest.approx(depths)
    late = sum(v > depths[number] for number, values in by_second.items() for v in values)
    assert found.late_count == pytest.approx(late, abs=1)  # one may lie on the edge itself


@given(calls(), st.booleans())
def test_a_second_is_judged_as_a_call_of_its_own_would_be(trace: Trace, adaptive: bool) -> None:
    """Its holes and runs are its own; the delay to the ear is the call's."""
    criterion = Criterion(ie=0, bpl=25.1, ptime_ms=20, adaptive=adaptive)
    whole, seconds = judge(trace, criterion), judge_seconds(trace, criterion)
    missed = criterion.play(trace).missed
    assert whole.metrics.sent == seconds.sent.sum() == len(trace)
    for number, mos in enumerate(seconds.mos):
        inside = missed[50 * number : 50 * (number + 1)]
        if whole.mouth_to_ear_ms is None or inside.all():
            assert mos == 1.0
            continue
        rating = criterion.rating(whole.mouth_to_ear_ms, 100 * inside.mean(), streams.burst_ratio(inside))
        assert mos == pytest.approx(float(emodel.mos_from_r(rating)))
    assert worst_second_mos(trace, criterion) == pytest.approx(seconds.mos.min())


# Shares and needs


@given(st.integers(0, 300), st.integers(1, 300))
def test_the_interval_is_scipys(good: int, more: int) -> None:
    ours = wilson(good, good + more)
    theirs = scipy_stats.binomtest(good, good + more).proportion_ci(0.95, method="wilson")
    assert (ours.low_pct, ours.high_pct) == pytest.approx((100 * theirs.low, 100 * theirs.high), abs=1e-9)


@given(st.floats(1, 99.9))
def test_calls_to_claim_are_the_fewest(required: float) -> None:
    fewest = calls_to_claim(required)
    assert wilson(fewest, fewest).low_pct >= required - 1e-6
    assert fewest == 0 or wilson(fewest - 1, fewest - 1).low_pct < required


@given(st.floats(0.01, 60), st.integers(0, 90))
def test_erlang_b_is_its_sum(erlangs: float, circuits: int) -> None:
    """E.501's closed form, in logarithms so that nothing overflows."""
    terms = [n * math.log(erlangs) - math.lgamma(n + 1) for n in range(circuits + 1)]
    top = max(terms)
    expected = math.exp(terms[-1] - top) / sum(math.exp(t - top) for t in terms)
    assert erlang_b(erlangs, circuits) == pytest.approx(expected, rel=1e-9)


@given(st.floats(0, 80), st.floats(0.001, 0.5))
def test_calls_at_once_are_the_fewest_that_block_so_little(erlangs: float, accepted: float) -> None:
    fewest = concurrent_calls(erlangs, accepted)
    assert erlang_b(erlangs, fewest) <= accepted
    assert fewest == 0 or erlang_b(erlangs, fewest - 1) > accepted


@given(st.integers(1, 400), st.floats(0, 10), st.floats(0, 15), st.floats(0.1, 20))
def test_a_need_is_on_its_own_curve(people: int, an_hour: float, minutes: float, blocked_pct: float) -> None:
    assume(people * an_hour * minutes / 60 <= 400)
    need = need_of(people, an_hour, minutes, blocked_pct)
    at = {point.calls: point.blocked_pct for point in need.curve}
    assert at[need.calls] <= blocked_pct
    assert list(at) == sorted(at)
    assert list(at.values()) == sorted(at.values(), reverse=True)


@given(st.lists(st.tuples(st.sampled_from([1, 2, 5, 9]), st.booleans()), max_size=60), st.sampled_from([50.0, 90, 97]))
def test_sustained_is_the_last_step_before_the_first_that_fails(tried: list[tuple[int, bool]], asked: float) -> None:
    found = staircase(tried, asked)
    sustained = None if not tried else 0
    for number in sorted({n for n, _ in tried}):
        goods = [good for n, good in tried if n == number]
        if 100 * sum(goods) / len(goods) < asked:
            break
        sustained = number
    assert found.sustained_calls == sustained
    for step in found.steps:
        good, count = step.share.good + step.more_calls, step.share.calls + step.more_calls
        if step.passes:
            assert wilson(good, count).low_pct >= asked
            assert step.more_calls == 0 or wilson(good - 1, count - 1).low_pct < asked
        assert step.sure == (step.share.low_pct >= asked or (not step.passes and step.share.high_pct < asked))


# What a call takes on the wire


@given(
    st.sampled_from(sorted(codec_table())),
    st.integers(1, 6),
    st.booleans(),
    st.booleans(),
    st.integers(0, 2),
    st.integers(0, 80),
)
def test_rates_by_adding_up_one_packet(
    name: str, frames: int, srtp: bool, pppoe: bool, vlan_tags: int, tunnel: int
) -> None:
    """Bytes of each layer by their standards: RTP 12, UDP 8, IPv4 20, Ethernet 18, preamble and gap 20."""
    codec = find_codec(name)
    ptime_ms = frames * 20
    try:
        criterion_for(codec, ptime_ms)
        codec.check_ptime(ptime_ms)
    except ValueError:
        return
    rate = call_rate(codec, ptime_ms, Link(srtp=srtp, pppoe=pppoe, vlan_tags=vlan_tags, tunnel_bytes=tunnel))
    at_ip = rate.payload_bytes + 12 + 8 + 20 + (10 if srtp else 0) + tunnel
    on_wire = at_ip + 18 + 20 + 4 * vlan_tags + (8 if pppoe else 0)
    per_s = 1000 / ptime_ms
    assert rate.ipv4_kbps == pytest.approx(at_ip * 8 * per_s / 1000, rel=0.005)
    assert rate.wire_ipv4_kbps - rate.ipv4_kbps == pytest.approx((on_wire - at_ip) * 8 * per_s / 1000)
    assert rate.ipv6_kbps - rate.ipv4_kbps == pytest.approx(20 * 8 * per_s / 1000)
