"""A flow of packets of a size and rate of one's own: overheads by the standards' bytes, and counts of each second."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.core.flow import flow_of, rate_of
from tarnfell.core.trace import NOT_ARRIVED, Trace

T0 = 1_795_000_000_000_000


def stream(offset_us: int, count: int = 150, delay_us: int = 20_000) -> Trace:
    sent = T0 + offset_us + np.arange(count, dtype=np.int64) * 20_000
    return Trace(np.arange(count, dtype=np.int64), sent, sent + delay_us)


def test_overhead_is_what_the_standards_add_to_each_packet() -> None:
    rate = rate_of(100, 60)
    assert (rate.payload_kbps, rate.ip_kbps, rate.wire_kbps) == (48.0, 70.4, pytest.approx(100.8))  # 60, 88, 126 bytes


def test_what_was_offered_and_what_arrived_each_second() -> None:
    first, second = stream(0), stream(10_000)
    recv = second.recv_us.copy()
    recv[50:100] = NOT_ARRIVED  # the whole of its second second
    late = first.recv_us.copy()
    late[:75] += 40_000
    told = flow_of([Trace(first.seq, first.sent_us, late), Trace(second.seq, second.sent_us, recv)], 60, 3.0)
    assert (told.sent, told.arrived, told.loss_pct) == (300, 250, pytest.approx(100 / 6))
    assert told.sent_per_s == (100, 100, 100)
    assert sum(told.arrived_per_s) >= 245  # what came after the third second stands in none
    assert told.arrived_per_s[1] < told.arrived_per_s[0]
    assert told.lost_per_s == (0, 50, 0)
    assert (told.offered.packets_per_s, told.received.packets_per_s) == (100.0, pytest.approx(250 / 3))
    assert told.overhead_pct == pytest.approx(100 * (1 - 60 / 126))
    assert (told.delay_added_p50_ms, told.delay_added_p95_ms) == (0.0, 40.0)


def test_a_flow_of_which_nothing_arrived() -> None:
    gone = stream(0)
    told = flow_of([Trace(gone.seq, gone.sent_us, np.full(150, NOT_ARRIVED, dtype=np.int64))], 60, 3.0)
    assert (told.arrived, told.loss_pct, told.delay_added_p50_ms) == (0, 100.0, None)
    assert told.arrived_per_s == (0, 0, 0)
