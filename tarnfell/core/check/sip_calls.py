"""Calls that signalling set up during a check: a record for each and direction, as a phone's own statistics have it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core import streams
from tarnfell.core.causes import Direction
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for, judge
from tarnfell.core.trace import TraceError, build_trace
from tarnfell.wire.kinds.check import CheckResult
from tarnfell.wire.kinds.signalling import ArrivedPackets, SentPackets, SipTransport

CODEC, PTIME_MS = "g711a", 20
SEQ_MOD = 1 << 16


@dataclass(frozen=True)
class SipCallRecord:
    transport: SipTransport
    direction: Direction
    ssrc: int
    sent: int
    arrived: int
    dscp_sent: int
    dscp_arrived: tuple[int, ...]
    """Each that was seen, most frequent first; empty where the receiver's system does not tell."""
    jitter_peak_ms: float | None
    """RFC 3550; None of fewer than two packets."""
    r_factor: float | None
    """One way taken as half of the round trip that the check found; None where there is none, or nothing arrived."""
    mos: float | None


def records_of(result: CheckResult) -> tuple[SipCallRecord, ...]:
    """Only of directions of which both ends have told."""
    told = result.signalling
    round_trips = [one.rtt_ms for one in result.media if one.rtt_ms is not None]
    rtt_ms = min(round_trips) if round_trips else None
    found = []
    for call in told.calls if told else ():
        for direction, sent, arrived in (
            ("up", call.own_sent, call.far_arrived),
            ("down", call.far_sent, call.own_arrived),
        ):
            if sent is not None and arrived is not None and sent.sent_us:
                found.append(_record(call.transport, direction, sent, arrived, rtt_ms))  # type: ignore[arg-type]
    return tuple(found)


def _record(
    transport: SipTransport, direction: Direction, sent: SentPackets, arrived: ArrivedPackets, rtt_ms: float | None
) -> SipCallRecord:
    about = (transport, direction, sent.ssrc, len(sent.sent_us))
    marks = _by_frequency(arrived.dscp)
    numbers = (np.array(arrived.seq, np.int64) - sent.first_seq) % SEQ_MOD
    # What is of another stream, or was made up, is none of this call's.
    own = (numbers < len(sent.sent_us)) & (arrived.ssrc == sent.ssrc)
    at_us = np.array(arrived.at_us, np.int64)[: len(own)]
    try:
        trace = build_trace(
            np.arange(len(sent.sent_us)), np.array(sent.sent_us, np.int64), numbers[own], at_us[own[: len(at_us)]]
        )
    except TraceError:
        return SipCallRecord(*about, int(np.count_nonzero(own)), sent.dscp, marks, None, None, None)
    got = int(np.count_nonzero(trace.arrived))
    jitter = streams.jitter_series_ms(trace)
    peak = round(float(jitter.max()), 3) if len(jitter) else None
    r_factor = mos = None
    if got and rtt_ms is not None:
        judged = judge(
            trace.shifted(float(trace.delay_us.min()) - rtt_ms * 500), criterion_for(find_codec(CODEC), PTIME_MS)
        )
        r_factor, mos = judged.r_factor, judged.mos
    return SipCallRecord(*about, got, sent.dscp, marks, peak, r_factor, mos)


def _by_frequency(marks: Sequence[int]) -> tuple[int, ...]:
    return tuple(sorted(set(marks), key=lambda mark: (-marks.count(mark), mark)))
