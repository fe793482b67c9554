"""From an uploaded record to two judged directions: clocks put right, gaps told, nonsense turned away."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for
from tarnfell.core.trace import NOT_ARRIVED
from tarnfell.store.runs import Run
from tarnfell.wire import WireError
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.ingest.packets import clock_relation, judge_record, stamp_exchanges, trace_of
from tarnfell.work.ingest.uploads import judge_call, judge_upload

CRITERION = criterion_for(find_codec("g711a"), 20)
START = 1_790_000_000_000_000
OFFSET_US = 4_200_000
"""The far end's clock is this much ahead of the probe's."""


def clock(skew_ppm: float = 0.0, answered: int = 600) -> Record:
    """Twenty exchanges a second over a way of 10 ms each way."""
    t1 = [START * 1000 + i * 50_000_000 for i in range(answered)]
    ahead = [OFFSET_US * 1000 + int((t - START * 1000) * skew_ppm * 1e-6) for t in t1]
    t2 = [t + a + 10_000_000 for t, a in zip(t1, ahead, strict=True)]
    t3 = [t + 40_000 for t in t2]
    t4 = [t - a + 10_000_000 for t, a in zip(t3, ahead, strict=True)]
    return Record.of({"shared": False}, {"t1_ns": t1, "t2_ns": t2, "t3_ns": t3, "t4_ns": t4})


def call(skew_ppm: float = 0.0, packets: int = 1500, **meta: Any) -> Record:
    """Up: 10 ms on the way, by two clocks. Down likewise, the other way round."""
    probe = np.array([START + i * 20_000 for i in range(packets)])
    far = probe + OFFSET_US + np.rint((probe - START) * skew_ppm * 1e-6).astype(int)
    columns = {
        "up.sent_us": probe,
        "up.arrival_seq": range(packets),
        "up.arrival_us": far + 10_000,
        "up.arrival_dscp": [46] * packets,
        "down.sent_us": far,
        "down.arrival_seq": range(packets),
        "down.arrival_us": probe + 10_000,
        "down.arrival_dscp": [255] * packets,
    }
    about = {"ssrc": 1, "dscp_sent": 46}
    base = {"call": 1, "start_us": START, "bound": True, "up": about, "down": about}
    return Record.of({**base, **meta}, {name: [int(v) for v in values] for name, values in columns.items()})


@pytest.mark.parametrize("skew_ppm", [0.0, 60.0, -35.0])
def test_two_clocks_become_one(skew_ppm: float) -> None:
    relation = clock_relation(clock(skew_ppm))
    assert relation.kind == "estimated"
    assert relation.uncertainty_ms == pytest.approx(10, abs=0.2)
    judged = judge_record(call(skew_ppm), relation, CRITERION)
    for one in judged.values():
        assert one.quality is not None
        assert one.quality.metrics.delay_min_ms == pytest.approx(10, abs=0.3)
        assert one.quality.metrics.pdv_max_ms == pytest.approx(0, abs=0.3)


@pytest.mark.parametrize("leap_us", [365 * 86_400_000_000, -365 * 86_400_000_000, 3_600_000_000])
def test_a_probe_whose_clock_is_set_in_the_middle_loses_no_packet_by_it(leap_us: int) -> None:
    """As a small box does that starts in 1970 and hears the time a minute later. Every stamp of the probe leaps."""
    whole = call()
    columns = {name: whole.values(name) for name in whole.columns}
    for name in ("up.sent_us", "down.arrival_us"):
        columns[name] = [at + leap_us * (i >= 700) for i, at in enumerate(columns[name])]
    judged = judge_record(Record.of(whole.meta, columns), clock_relation(clock()), CRITERION)
    for one in judged.values():
        assert one.quality is not None
        assert (one.quality.metrics.lost, one.quality.late) == (0, 0)
        assert one.quality.metrics.pdv_max_ms == pytest.approx(0, abs=0.5)


def test_one_shared_clock_is_left_alone() -> None:
    relation = clock_relation(Record({"shared": True}))
    assert (relation.kind, relation.uncertainty_ms) == ("shared", 0.0)
    trace = trace_of(call(), "up", relation)
    assert trace is not None
    assert int(trace.delay_us[0]) == OFFSET_US + 10_000


def test_without_exchanges_delay_is_not_known_but_its_variation_is() -> None:
    judged = judge_record(call(), clock_relation(clock(answered=0)), CRITERION)["up"]
    assert judged.quality is not None
    assert judged.quality.metrics.delay_min_ms is None
    assert judged.quality.metrics.pdv_max_ms == 0
    assert judged.quality.mos is not None
    assert len(stamp_exchanges(Record({})).t1) == 0


def test_marking_counts_leave_out_what_the_system_did_not_tell() -> None:
    judged = judge_record(call(), clock_relation(clock()), CRITERION)
    assert judged["up"].dscp_received == {"46": 1500}
    assert judged["down"].dscp_received == {}
    figures = judge_call(call().serialize(), clock_relation(clock()), CRITERION).directions
    assert figures["up"].dscp_kept_pct == 100
    assert figures["down"].dscp_kept_pct is None


def test_packets_the_system_refused_were_never_sent() -> None:
    record = call(packets=100)
    sent = record.values("up.sent_us")
    sent[40] = sent[41] = 0
    arrivals = [n for n in range(100) if n not in (40, 41)]
    columns = {name: record.values(name) for name in record.columns}
    columns |= {
        "up.sent_us": sent,
        "up.arrival_seq": arrivals,
        "up.arrival_us": [record.values("up.arrival_us")[n] for n in arrivals],
    }
    judged = judge_record(Record.of(record.meta, columns), clock_relation(clock()), CRITERION)["up"]
    assert judged.quality is not None
    assert (judged.quality.metrics.sent, judged.quality.metrics.lost) == (98, 0)


def test_a_clock_set_back_in_the_middle_keeps_the_order() -> None:
    record = call(packets=100)
    columns = {name: record.values(name) for name in record.columns}
    columns["up.sent_us"] = [t - (250_000 if n >= 50 else 0) for n, t in enumerate(columns["up.sent_us"])]
    trace = trace_of(Record.of(record.meta, columns), "up", clock_relation(Record({"shared": True})))
    assert trace is not None
    assert (np.diff(trace.sent_us) >= 0).all()
    assert trace.arrived.all()


@pytest.mark.parametrize(("bound", "words"), [(False, "did not answer before the run"), (True, "Nothing was sent.")])
def test_a_direction_without_packets_says_why(bound: bool, words: str) -> None:
    whole = call(packets=50, bound=bound)
    kept = {name: whole.values(name) for name in whole.columns if not name.startswith("down.sent")}
    judged = judge_record(Record.of(whole.meta, kept), clock_relation(clock()), CRITERION)["down"]
    assert judged.quality is None
    assert words in str(judged.reason)
    figures = judge_call(Record.of(whole.meta, kept).serialize(), clock_relation(clock()), CRITERION).directions["down"]
    assert (figures.sent, figures.mos, figures.worst_second_mos) == (0, None, None)


def test_nothing_arrived_is_all_lost() -> None:
    whole = call(packets=50)
    kept = {name: whole.values(name) for name in whole.columns if not name.startswith("up.arrival")}
    judged = judge_record(Record.of(whole.meta, kept), clock_relation(clock()), CRITERION)["up"]
    assert judged.reason == "Nothing arrived."
    assert judged.quality is not None
    assert judged.quality.metrics.lost == 50
    assert judged.trace is not None
    assert (judged.trace.recv_us == NOT_ARRIVED).all()


def run_of(calls: int) -> Run:
    known = {
        "id": 1,
        "codec": "g711a",
        "ptime_ms": 20,
        "seconds": 300.0,
        "calls": calls,
        "state": "taken",
        "direction": "both",
        "video": (),
    }
    return Run(**{**dict.fromkeys(Run.__dataclass_fields__), **known})


def spoiled(**columns: list[int]) -> bytes:
    whole = call(packets=10)
    kept = {name: whole.values(name) for name in whole.columns}
    return Record.of(whole.meta, {**kept, **{n.replace("_", ".", 1): v for n, v in columns.items()}}).serialize()


@pytest.mark.parametrize(
    ("part", "words"),
    [
        (spoiled(up_arrival_seq=[77] * 10), "77 arrived but was never sent"),
        (spoiled(up_arrival_us=[1, 2]), "differ in length"),
        (Record.of({"call": 1, "start_us": 1}, {"up.sent_us": [1]}).serialize(), "nothing about the direction"),
    ],
)
def test_records_that_contradict_themselves_are_turned_away(part: bytes, words: str) -> None:
    with pytest.raises(WireError, match=words):
        judge_upload(run_of(1), join_parts([clock().serialize(), part]), find_codec("g711a"))


def test_exchanges_of_unequal_number_are_turned_away() -> None:
    crooked = Record.of({}, {"t1_ns": [1, 2], "t2_ns": [1], "t3_ns": [1], "t4_ns": [1]})
    with pytest.raises(WireError, match="differ in number"):
        clock_relation(crooked)
