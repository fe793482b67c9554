"""From packet records as they were uploaded to traces that can be judged."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from tarnfell.core import quality
from tarnfell.core.clock import (
    SHARED,
    ClockRelation,
    Exchanges,
    drift_ppm,
    estimate,
    estimate_from_media,
    from_round_trip,
)
from tarnfell.core.columns import unpack_planes
from tarnfell.core.picture import UNKNOWN_ROUND_TRIP_MS, PictureCriterion
from tarnfell.core.playout import Playout
from tarnfell.core.quality import Criterion, StreamQuality
from tarnfell.core.trace import LAST_US, MAX_SPAN_US, Ints, Trace, TraceError, build_trace
from tarnfell.wire import WireError
from tarnfell.wire.record import Record

Direction = Literal["up", "down"]
DIRECTIONS: tuple[Direction, Direction] = ("up", "down")
_NEVER_LEFT = 0
_UNKNOWN = 255
_MAX_NUMBER = 10_000
_LAST_CAPTURED_US = (2**32 - 1) * 1_000_000
"""A capture counts seconds with 32 bits."""
_MOST_PACKETS = 50_000_000
_LEAP_US = 60_000_000
"""No pause in a run is as long; between two packets so far apart the clock was set."""


def parse_checked(part: bytes) -> Record:
    """A call's or stream's record whose parts belong together. Raises WireError."""
    record = Record.parse(part)
    for direction in DIRECTIONS:
        about = record.meta.get(direction, {})
        if not isinstance(about, dict):
            raise WireError(f"Packet record: nothing about the direction {direction}.")
        for name, most in (("ssrc", 2**32 - 1), ("dscp_sent", 63)):
            value = about.get(name, 0)
            if not isinstance(value, int) or not 0 <= value <= most:
                raise WireError(f"Packet record: {name} of the direction {direction} cannot be {value}.")
        lengths = {column.count for name, column in record.columns.items() if name.startswith(f"{direction}.arrival_")}
        if len(lengths) > 1:
            raise WireError(f"Packet record: the columns of what arrived {direction} differ in length.")
        if f"{direction}.arrival_ttl" in record.columns:
            # Not judged, and written into captures later: damage must show now.
            _column(record, f"{direction}.arrival_ttl")
    return record


def which_and_when(record: Record, kind: Literal["call", "video"]) -> tuple[int, int]:
    """The number of a call or stream in its run, and when it began in microseconds. Raises WireError."""
    number, started_us = int(record.meta[kind]), int(record.meta["start_us"])
    if not 1 <= number <= _MAX_NUMBER or not 0 <= started_us <= LAST_US:
        raise WireError(f"Packet record: {kind} {number} at {started_us} µs cannot be.")
    return number, started_us


@dataclass(frozen=True)
class JudgedDirection:
    """One direction of one call: its trace on one clock, its quality, and what marking came through."""

    trace: Trace | None
    """None when nothing was sent, or what was sent is not known."""
    quality: StreamQuality | None
    ssrc: int
    dscp_sent: int
    dscp_received: dict[str, int]
    reason: str | None = None
    """Why there is no quality."""
    played: Playout | None = None
    """What the listener had of it; None where there is no trace."""


def flowing(record: Record) -> tuple[Direction, ...]:
    """The directions in which media was to flow."""
    way = record.meta.get("direction", "both")
    return tuple(d for d in DIRECTIONS if way in ("both", d))


def known_delay(relation: ClockRelation) -> bool:
    """Whether the clocks were related, so that one-way delay means something."""
    return relation.kind != "unknown"


def picture_criterion(clock: Record, **chosen: Any) -> PictureCriterion:
    """How video of a run is judged: with the round trip its time stamps found. Raises WireError."""
    rtt = stamp_exchanges(clock).round_trip_ms
    return PictureCriterion(round_trip_ms=float(np.median(rtt)) if len(rtt) else UNKNOWN_ROUND_TRIP_MS, **chosen)


def clock_relation(clock: Record, records: Iterable[Record] = ()) -> ClockRelation:
    """How the two ends' clocks stood in a run: one clock, its time-stamp exchange, its media both ways, or RTCP alone.

    Raises WireError.
    """
    if clock.meta.get("shared"):
        return SHARED
    relation = estimate(stamp_exchanges(clock))
    if relation.kind != "unknown":
        return relation
    whole = [record for record in records if not half_of(record)]
    up, down = ([t for r in whole if d in flowing(r) and (t := _as_recorded(r, d))] for d in DIRECTIONS)
    relation = estimate_from_media(up, down)
    if relation.kind != "unknown":
        return relation
    round_trip_us = clock.meta.get("rtcp_rtt_us")
    return from_round_trip(round_trip_us) if isinstance(round_trip_us, int) and round_trip_us > 0 else relation


def stamp_exchanges(clock: Record) -> Exchanges:
    """The exchanges as recorded; empty when none was answered. Raises WireError."""
    names = ("t1_ns", "t2_ns", "t3_ns", "t4_ns")
    if not all(name in clock.columns for name in names):
        return Exchanges(*(np.empty(0, np.int64) for _ in names))
    columns = [_column(clock, name) for name in names]
    if len({len(c) for c in columns}) != 1:
        raise WireError("Packet record: the time stamps differ in number.")
    return Exchanges(*columns)


def judge_record(record: Record, relation: ClockRelation, criterion: Criterion) -> dict[Direction, JudgedDirection]:
    """The directions of one call in which media was to flow. Raises WireError when the record contradicts itself."""
    return {direction: _judge(record, direction, relation, criterion) for direction in flowing(record)}


def trace_of(record: Record, direction: str, relation: ClockRelation) -> Trace | None:
    """One direction's trace with both ends' times on the sender's clock; None when nothing was sent, or what was
    sent or what arrived is not known."""
    trace = _as_recorded(record, direction)
    if trace is None:
        return None
    if relation.kind in ("unknown", "round trip") or half_of(record):
        if trace.arrived.any():
            trace = trace.shifted(0.0, drift_ppm(trace) or 0.0, int(trace.recv_us[trace.arrived][0]))
        # Half the round trip each way is what can be said; of a planned send time nothing can.
        one_way_us = relation.one_way_us if relation.kind == "round trip" and not half_of(record) else 0
        floor = int(trace.delay_us.min()) if trace.arrived.any() else 0
        return trace.shifted(floor - one_way_us)
    return relation.on_senders_clock(trace, direction == "up")


def _as_recorded(record: Record, direction: str) -> Trace | None:
    """One direction's trace, each end's times on its own clock; None as above. Raises WireError."""
    if half_of(record) and direction == "up":
        return None
    arrival_seq, arrival_us = _arrivals(record, direction)
    if half_of(record):
        sent = _planned(record, direction, arrival_seq)
    elif f"{direction}.sent_us" in record.columns:
        sent = _column(record, f"{direction}.sent_us")
    else:
        return None
    left = np.flatnonzero(sent != _NEVER_LEFT)
    if len(left) == 0:
        return None
    try:
        # A clock set back by less makes send times fall; they stand still until it has caught up.
        sent_us = np.maximum.accumulate(_without_leaps(sent[left]))
        return build_trace(left, sent_us, arrival_seq, _without_leaps(arrival_us))
    except TraceError as error:
        raise WireError(f"Packet record: {error}") from None


@dataclass(frozen=True)
class Half:
    """What the probe's half of a cut run tells of one call."""

    seconds: float
    """From the first packet to the moment the probe gave up."""
    expected: int
    """Packets sent up whose fate the far end had told, when it was last heard."""
    received: int
    """Of them, those it had received."""


def half_of(record: Record) -> Half | None:
    """None for a record that both ends made together. Raises WireError."""
    about = record.meta.get("half")
    if about is None:
        return None
    try:
        half = Half(float(about["seconds"]), int(about["reached"]), int(about["received"]))
    except (KeyError, TypeError, ValueError):
        raise WireError("Packet record: what it says of a cut run cannot be read.") from None
    if not 0 <= half.seconds <= MAX_SPAN_US / 1e6 or not 0 <= half.received <= half.expected <= _MOST_PACKETS:
        raise WireError("Packet record: what it says of a cut run cannot be.")
    return half


def packets_in(record: Record) -> int:
    """How many there are to judge, both ways, without unpacking one. Raises WireError."""

    def held(name: str) -> int:
        return record.columns[name].count if name in record.columns else 0

    half = half_of(record)
    due = _due(record, half) if half else 0
    return sum(max(due, held(f"{way}.sent_us"), held(f"{way}.arrival_seq")) for way in flowing(record))


def _due(record: Record, half: Half) -> int:
    """Packets that were due each way until the run was cut. Raises WireError."""
    ptime_us = int(record.meta.get("ptime_us", 0))
    if ptime_us <= 0:
        raise WireError("Packet record: the plan of a cut run is missing.")
    return min(int(half.seconds * 1_000_000) // ptime_us, int(record.meta.get("planned_packets", 0)))


def _planned(record: Record, direction: str, arrival_seq: Ints) -> Ints:
    """When packets were due to be sent until the run was cut, where the sender's own record is not to be had.

    An even plan stands in for send times, as RTP timestamps do in a capture; delay is then known to a constant only.
    """
    half = half_of(record)
    if half is None:
        raise WireError("Packet record: the plan of a cut run is missing.")
    ptime_us, due = int(record.meta["ptime_us"]), _due(record, half)
    count = max(due, int(arrival_seq.max()) + 1 if len(arrival_seq) else 0)
    if count > _MOST_PACKETS:
        raise WireError("Packet record: a cut run cannot have had so many packets.")
    return int(record.meta["start_us"]) + np.arange(count, dtype=np.int64) * ptime_us


def _without_leaps(times_us: Ints) -> Ints:
    """Times in the order they were written down, as if the clock had not been set by a minute or more in between.

    A result under a clock that was set is tainted and says so; its packets are still counted for what they were.
    """
    times = np.clip(times_us, -LAST_US, LAST_US)
    steps = np.diff(times)
    leaps = np.abs(steps) > _LEAP_US
    if not leaps.any():
        return times
    steps[leaps] = 0 if leaps.all() else int(np.median(steps[~leaps]))
    return np.concatenate((times[:1], times[0] + np.cumsum(steps)))


def _judge(record: Record, direction: Direction, relation: ClockRelation, criterion: Criterion) -> JudgedDirection:
    about = record.meta.get(direction)
    if not isinstance(about, dict):
        raise WireError(f"Packet record: nothing about the direction {direction}.")
    trace = trace_of(record, direction, relation)
    reason = judged = played = None
    if trace is None:
        reason = why_no_trace(record)
    else:
        played = criterion.play(trace)
        judged = quality.judge(trace, criterion, played)
        if not known_delay(relation) or half_of(record):
            # What is left is what the call had at best: its MOS leaves the way's own delay out.
            unknown = replace(judged.metrics, delay_min_ms=None, delay_p50_ms=None)
            judged = replace(judged, metrics=unknown, mouth_to_ear_ms=None)
        if judged.metrics.received == 0:
            reason = "Nothing arrived."
    return JudgedDirection(
        trace=trace,
        quality=judged,
        ssrc=int(about.get("ssrc", 0)),
        dscp_sent=int(about.get("dscp_sent", 0)),
        dscp_received=dscp_counts(record, direction),
        reason=reason,
        played=played,
    )


def why_no_trace(record: Record) -> str:
    if half_of(record):
        return "The run was cut: what arrived at the far end afterwards is not known."
    if record.meta.get("bound") is False:
        return "Nothing was sent: the media port did not answer before the run."
    return "Nothing was sent."


def arrivals_of(record: Record, direction: str) -> Iterator[tuple[int, int, int, int]]:
    """Each packet that arrived, as it arrived: sequence number, time (receiver's clock, µs), DSCP, TTL.

    Where the system did not tell the marking or the TTL, the marking sent and 64 stand in. Raises WireError.
    """
    if f"{direction}.arrival_seq" not in record.columns:
        return
    seq = _column(record, f"{direction}.arrival_seq").tolist()
    at = np.clip(_column(record, f"{direction}.arrival_us"), 0, _LAST_CAPTURED_US).tolist()
    sent_as = int(record.meta[direction].get("dscp_sent", 0))
    marks, ttls = (
        _column(record, f"{direction}.arrival_{name}").tolist()
        if f"{direction}.arrival_{name}" in record.columns
        else [_UNKNOWN] * len(seq)
        for name in ("dscp", "ttl")
    )
    for one, at_us, mark, ttl in zip(seq, at, marks, ttls, strict=True):
        yield one, at_us, mark if 0 <= mark < 64 else sent_as, ttl if 0 <= ttl < _UNKNOWN else 64


def _arrivals(record: Record, direction: str) -> tuple[Ints, Ints]:
    if f"{direction}.arrival_seq" not in record.columns:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    return _column(record, f"{direction}.arrival_seq"), _column(record, f"{direction}.arrival_us")


def _column(record: Record, name: str) -> Ints:
    packed = record.column(name)
    return unpack_planes(packed.planes(), packed.count)


def dscp_counts(record: Record, direction: str) -> dict[str, int]:
    """Markings seen with how often, as text keys; what the system did not tell is left out."""
    name = f"{direction}.arrival_dscp"
    if name not in record.columns:
        return {}
    values, counts = np.unique(_column(record, name), return_counts=True)
    told = zip(values.tolist(), counts.tolist(), strict=True)
    return {str(value): count for value, count in told if value != _UNKNOWN}
