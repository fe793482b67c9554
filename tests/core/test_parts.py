"""Trace files, columns, codecs, plans, clocks: the core's smaller parts."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.core import emodel, tracefile
from tarnfell.core.codecs import CodecError, codec_table, find_codec, with_values
from tarnfell.core.columns import pack_planes, unpack_planes
from tarnfell.core.quality import criterion_for
from tarnfell.core.rates import GAP_S, Link, PlanError, call_rate, hold, plan_run
from tarnfell.core.trace import TraceError, build_trace
from tarnfell.core.tracefile import format_csv, parse_csv
from tarnfell.wire.record import pack_column


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "is empty"),
        ("seq,recv_us\n1,2\n", "no column sent_us"),
        ("seq,sent_us,recv_us\n", "no packet"),
        ("seq,sent_us,recv_us\n1,ten,\n", "Line 2.*sent_us is “ten”"),
        ("seq,sent_us,recv_us\n1,10\n", "Line 2.*2 values"),
        ("seq,sent_us,recv_us\n1,10,20\n2,5,9\n", "Line 3.*goes backwards"),
        ("seq,sent_us,recv_us\n1,0,\n2,2000000000000,\n", "sent 23 days after the first: the sender's clock was set"),
        ("seq,sent_us,recv_us\n1,0,\n2,20000,900000000000000000\n", "beyond every calendar"),
        ("seq,sent_us,recv_us\n1,10,20\n1,30,40\n", "extended, not wrapped"),
        ("seq,sent_us,recv_us\n1,99999999999999999999999,\n", "beyond any clock"),
        ('seq,sent_us,recv_us\n1,10,"' + "x" * 200_000 + '"\n', "not CSV text"),
    ],
)
def test_bad_trace_files_get_a_sentence(text: str, words: str) -> None:
    with pytest.raises(TraceError, match=words):
        parse_csv(text)


def test_trace_file_with_more_columns_and_a_duplicate() -> None:
    text = "seq,sent_us,recv_us,bytes,dscp\n7,0,1000,172,46\n7,0,1500,172,46\n8,20000,,172,\n"
    trace = parse_csv(text)
    assert (len(trace), trace.duplicates, trace.arrived.tolist()) == (2, 1, [True, False])
    assert parse_csv(format_csv(trace)).recv_us.tolist() == trace.recv_us.tolist()


def test_a_long_trace_is_written_in_parts_and_none_of_it_is_missing() -> None:
    count = 2 * tracefile._ROWS + 1
    sent = np.arange(count) * 20_000
    lost = np.arange(count) % 7 == 0
    trace = build_trace(np.arange(count), sent, np.flatnonzero(~lost), sent[~lost] + 3)
    parts = list(tracefile.csv_parts(trace))
    assert [part.count("\n") for part in parts] == [1, tracefile._ROWS, tracefile._ROWS, 1]
    lines = "".join(parts).splitlines()
    assert lines[:3] == ["seq,sent_us,recv_us", "0,0,", "1,20000,20003"]
    assert lines[1:] == [f"{i},{i * 20_000}," + ("" if i % 7 == 0 else f"{i * 20_000 + 3}") for i in range(count)]


@given(st.text(max_size=300))
def test_no_text_breaks_the_trace_reader(text: str) -> None:
    try:
        parse_csv("seq,sent_us,recv_us\n" + text)
    except TraceError:
        pass


@given(st.lists(st.integers(-(2**61), 2**61), max_size=60))
def test_columns_survive_both_ways_of_packing(values: list[int]) -> None:
    """What the probe packs without NumPy the core reads, and both pack alike."""
    packed = pack_column("x", values)
    assert packed.values() == values
    assert unpack_planes(packed.planes(), packed.count).tolist() == values
    if values:
        assert pack_planes(np.array(values, np.int64)) == packed.planes()


@given(st.floats(0, 100), st.floats(0, 100), st.floats(0, 1000), st.floats(1, 50))
def test_more_loss_or_delay_never_raises_mos(a: float, b: float, delay: float, ratio: float) -> None:
    low, high = sorted((a, b))

    def mos(ms: float, loss: float) -> float:
        return float(emodel.mos_from_r(emodel.rate(ms, loss, ratio, 11, 19).R))

    assert mos(delay, high) <= mos(delay, low) + 1e-9
    assert mos(delay + 400, low) <= mos(delay, low) + 1e-9


def test_a_long_outage_counts_no_less_for_more_loss_around_it() -> None:
    """BurstR ends at 8 and Ie,eff at 95."""
    assert emodel.equipment_impairment(50, 400, 0, 25.1) == emodel.equipment_impairment(50, 8, 0, 25.1)
    assert float(emodel.equipment_impairment(60, 8, 11, 4.3)) == 95
    assert float(emodel.equipment_impairment(100, 1, 0, 4.3)) <= 95


def test_wideband_is_judged_on_its_own_scale() -> None:
    """G.722 has no narrowband head start: distance costs it what it costs others."""
    wide = criterion_for(find_codec("g722"), 20)
    assert wide.mos_scale == "MOS-CQEW"
    assert float(wide.mos(wide.rating(100, 0, 1))) < 4.5
    assert float(wide.mos(wide.rating(400, 0, 1))) < 4.0
    assert criterion_for(find_codec("g711a"), 20).mos_scale == "MOS-CQEN"


def test_codecs_say_where_their_values_come_from() -> None:
    for codec in codec_table().values():
        assert codec.source
        assert codec.origin in ("published", "planning")
        assert codec.intervals_ms(), codec.name
    assert find_codec("g722").clock_hz == 8000
    assert find_codec("g7231-63").payload_bytes(60) == 48


def test_unknown_codec_and_broken_interval() -> None:
    with pytest.raises(CodecError, match=r"No codec is called “g999”. Known: g711u"):
        find_codec("g999")
    with pytest.raises(CodecError, match=r"every 20 ms: its frame is 30 ms. Use one of 30, 60 ms"):
        find_codec("g7231-63").payload_bytes(20)


@pytest.mark.parametrize(("calls", "seconds"), [(0, 10), (10_000, 10), (1, 0), (1, 1e9)])
def test_loads_that_cannot_be_placed(calls: int, seconds: float) -> None:
    with pytest.raises(PlanError, match="cannot be placed"):
        plan_run(find_codec("g711u"), 20, hold(calls, seconds))


def test_plan_counts_gaps_and_overheads() -> None:
    plan = plan_run(find_codec("g711u"), 20, hold(10, 60, 3))
    assert plan.run_s == 3 * 60 + 2 * GAP_S
    assert plan.calls == 30
    assert plan.each_way_ipv4_kbps == pytest.approx(10 * 80 * 1.05)
    link = Link(srtp=True, pppoe=True, vlan_tags=1)
    assert call_rate(find_codec("g711u"), 20, link).ethernet_ipv4_kbps == pytest.approx((200 + 10 + 18 + 8 + 4) * 0.4)


@pytest.mark.parametrize(("stmr", "expected"), [(7.0, 1.086), (15.0, 0.0), (60.0, 12.503)])
def test_side_tone_as_the_formula_has_it(stmr: float, expected: float) -> None:
    """G.107 eq. 7-11, worked out by hand: only far from the default does its last term count."""
    p = replace(emodel.Parameters(), STMR=stmr, TELR=200.0)
    assert float(emodel._ist(p, 0.0)) == pytest.approx(expected, abs=0.001)


@pytest.mark.parametrize(("stmr", "more"), [(9.0, False), (15.0, False), (20.0, False), (20.1, True), (30.0, True)])
def test_side_tone_masks_echo_and_is_heard_beside_it(stmr: float, more: bool) -> None:
    """G.107 eq. 7-19 and 7-23: above 20 dB Idte and Ist are added as powers."""
    p, delay = replace(emodel.Parameters(), STMR=stmr, TELR=45.0), np.array([150.0])
    usual = replace(p, STMR=15.0)
    (idte,), (alone,) = (emodel._talker_echo(one, 94.0, -60.0, delay) for one in (p, usual))
    assert idte == pytest.approx(np.hypot(alone, float(emodel._ist(p, delay)[0])) if more else alone)
    assert (idte > alone + 1e-6) == more


@pytest.mark.parametrize(
    ("name", "ie", "bpl", "why", "says"),
    [
        ("g729a", 1.0, 10.0, "own test", "are published"),
        ("opus-24", 10.0, 10.0, " ", "Say where these values come from"),
        ("opus-24", -0.1, 10.0, "own test", "Ie -0.1 is not valid"),
        ("opus-24", 95.1, 10.0, "own test", "Ie 95.1 is not valid"),
        ("opus-24", 10.0, 0.9, "own test", "Bpl 0.9 is not valid"),
    ],
)
def test_values_of_ones_own_need_a_reason_and_bounds(name: str, ie: float, bpl: float, why: str, says: str) -> None:
    with pytest.raises(CodecError, match=says):
        with_values(find_codec(name), ie, bpl, why)


def test_a_run_keeps_no_more_packets_than_can_be_uploaded() -> None:
    """A hundred calls every 20 ms are 10 000 packets a second, both ways: 3 000 s and no more."""
    codec = find_codec("g711a")
    assert plan_run(codec, 20, hold(100, 3000)).packets == 30_000_000
    with pytest.raises(PlanError, match="make 30 million packets; one run keeps up to 30 million"):
        plan_run(codec, 20, hold(100, 3001))
    with pytest.raises(PlanError, match=r"144 million packets.*at most 50 minutes"):
        plan_run(codec, 20, hold(100, 14_400))
    assert plan_run(codec, 20, hold(100, 6000), direction="up").packets == 30_000_000
    assert plan_run(codec, 20, hold(100, 3000, 4)).packets == 120_000_000  # each round is a run of its own


@pytest.mark.parametrize(
    ("name", "ptime_ms", "step"),
    [("g711a", 20, 160), ("g711u", 30, 240), ("g722", 20, 160), ("opus-16", 20, 960)],
)
def test_time_stamps_advance_by_the_clock_of_the_payload_format(name: str, ptime_ms: int, step: int) -> None:
    """G.722 samples 16 000 times a second and counts 8 000 (RFC 3551 §4.5.2); Opus counts 48 000 (RFC 7587 §4.1)."""
    assert find_codec(name).timestamp_step(ptime_ms) == step
