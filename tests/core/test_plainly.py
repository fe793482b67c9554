"""What the core computes on whole arrays or in closed form, against its definition written out step by step."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from tarnfell.core import emodel, playout, streams
from tarnfell.core.codecs import codec_table, find_codec
from tarnfell.core.need import need_of
from tarnfell.core.quality import Criterion, criterion_for, judge, judge_seconds, worst_of
from tarnfell.core.rates import Link, call_rate
from tarnfell.core.stats import concurrent_calls, erlang_b
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


def plain_bases(trace: Trace) -> list[float]:
    """The fastest delay so far, or that of the last two seconds where it stood still ten above for so long."""
    base, bases, blocks = None, [], {}  # type: ignore[var-annotated]
    settled = -1
    for sent, received in zip(trace.sent_us.tolist(), trace.recv_us.tolist(), strict=True):
        number = (sent - int(trace.sent_us[0])) // 250_000
        if base is not None and number not in blocks:
            full = [k for k in blocks if k > settled]
            recent = [blocks[k] for k in full[-8:]]
            steady = len(recent) == 8 and full[-1] - full[-8] < 16 and max(recent) - min(recent) <= 5
            if received != NOT_ARRIVED and steady and min(recent) - base > 10:
                base, settled = min(recent), full[-1]
        if received != NOT_ARRIVED:
            delay = (received - sent) / 1000
            base = delay if base is None else min(base, delay)
            blocks[number] = min(blocks.get(number, delay), delay)
        bases.append(base)
    first = next((b for b in bases if b is not None), 0.0)
    return [first if b is None else b for b in bases]


@given(calls(), st.sampled_from([20.0, 60.0, 150.0, 400.0]))
def test_the_adaptive_buffer_second_by_second(trace: Trace, ceiling: float) -> None:
    bases = plain_bases(trace)
    by_second: dict[int, list[tuple[float, float | None]]] = {}
    for sent, received, base in zip(trace.sent_us, trace.recv_us, bases, strict=True):
        # A rest of less than half a second is no second of its own.
        last = max(1, (int(trace.sent_us[-1] - trace.sent_us[0]) + 500_000) // 1_000_000) - 1
        second = by_second.setdefault(min(int(sent - trace.sent_us[0]) // 1_000_000, last), [])
        second.append((base, None if received == NOT_ARRIVED else (received - sent) / 1000))
    delays = {n: [d for _, d in rows if d is not None] for n, rows in by_second.items()}
    depths: list[float] = []
    played = 0.0
    for number in range(len(by_second)):
        base = by_second[number][0][0]
        if number == 0:
            played = base + min(60.0, ceiling)
        else:
            before = [delays[k] for k in range(max(0, number - 4), number)]
            wanted = max(np.percentile(one, 98) + 5 if one else -1e9 for one in before)
            played = max(wanted, played - 10)
        played = min(max(played, base + min(20.0, ceiling)), base + ceiling)
        depths.append(played - base)
    found = playout.adaptive(trace, ceiling)
    if not trace.arrived.any():
        assert found.late_count == 0
        return
    assert found.depth_ms.tolist() == pytest.approx(depths, abs=1e-5)
    late = sum(d > base + depths[n] for n, rows in by_second.items() for base, d in rows if d is not None)
    assert found.late_count == pytest.approx(late, abs=1)  # one may lie on the edge itself


@given(calls(), st.booleans())
def test_a_second_is_judged_as_a_call_of_its_own_would_be(trace: Trace, adaptive: bool) -> None:
    """Its holes and runs are its own, and so is the delay to the ear."""
    criterion = Criterion(ie=0, bpl=25.1, ptime_ms=20, adaptive=adaptive)
    whole, seconds = judge(trace, criterion), judge_seconds(trace, criterion)
    heard = criterion.play(trace)
    missed = heard.missed
    assert whole.metrics.sent == seconds.sent.sum() == len(trace)
    for number, mos in enumerate(seconds.mos):
        inside = missed[50 * number : 50 * (number + 1) if number + 1 < len(seconds.mos) else None]
        if whole.mouth_to_ear_ms is None or inside.all():
            assert mos == 1.0
            continue
        ear = max(0.0, heard.base_ms[number]) + heard.depth_ms[number] + 20
        rating = criterion.rating(ear, 100 * inside.mean(), streams.burst_ratio(inside))
        assert mos == pytest.approx(float(emodel.mos_from_r(rating)))
    if whole.mouth_to_ear_ms is not None:
        assert whole.mouth_to_ear_ms == pytest.approx(np.mean(heard.base_ms) + np.mean(heard.depth_ms) + 20)
    worst = worst_of(trace, criterion)
    assert worst.second_mos == pytest.approx(seconds.mos.min())
    if len(seconds.mos) <= 10:
        assert worst.stretch_mos == pytest.approx(whole.mos if whole.mos is not None else 1.0)


@given(st.integers(11, 30), st.data())
def test_a_stretch_is_judged_as_a_call_of_its_own_would_be(length: int, data: st.DataObject) -> None:
    """Any ten seconds on end, with the delay of the whole call."""
    holes = data.draw(st.lists(st.tuples(st.integers(0, 50 * length - 1), st.integers(1, 400)), max_size=5))
    sent = np.arange(50 * length, dtype=np.int64) * 20_000
    recv = sent + 30_000
    for first, run in holes:
        recv[first : first + run] = NOT_ARRIVED
    if (recv == NOT_ARRIVED).all():
        return
    trace, criterion = Trace(np.arange(50 * length), sent, recv), Criterion(ie=0, bpl=25.1, ptime_ms=20)
    ear = judge(trace, criterion).mouth_to_ear_ms
    missed = criterion.play(trace).missed
    worst = 5.0
    for first in range(length - 9):
        inside = missed[50 * first : 50 * (first + 10)]
        rating = criterion.rating(ear, 100 * inside.mean(), streams.burst_ratio(inside))
        worst = min(worst, 1.0 if inside.all() else float(emodel.mos_from_r(rating)))
    assert worst_of(trace, criterion).stretch_mos == pytest.approx(worst)


# Shares and needs


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
