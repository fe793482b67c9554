"""From the RTP packets of one flow to streams that can be judged.

What a sender does on purpose must not be read as what the network did: it may begin its numbers anew, fall silent and
go on, set its timestamps on, send digits and comfort noise between speech, or change its codec. And a switch that
mirrors a port in and out shows every packet twice.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.clock import drift_ppm
from tarnfell.core.codecs import Codec, codec_table
from tarnfell.core.trace import Ints, Trace, TraceError, build_trace
from tarnfell.exchange.frames import Datagram
from tarnfell.exchange.send_times import spread, without_jumps
from tarnfell.wire.rtp import RtpPacket

MIN_PACKETS = 10
MAX_STEP = 3000
"""RFC 3550 A.1: a sequence number further off than this belongs to something else, unless time has passed for it."""
STRAY_PACKETS = 3
"""Fewer in a row, far from their neighbours, are strays."""
STEADY_SHARE = 0.8
MIRRORED_SHARE = 0.5
"""Of the packets seen twice, from which on the capture is taken to show each one twice."""
OUTAGE_US = 1_000_000
MAX_MISSING = 8 * 24 * 3600 * 50
"""Packets of an outage, at most: a capture longer than a week is split anyway."""

STATIC_TYPES = {0: "g711u", 4: "g7231-63", 8: "g711a", 9: "g722", 18: "g729"}
"""Payload types of RFC 3551 table 4 that we have a codec for."""
COMFORT_NOISE = (13, 19)
_CLOCKS_HZ = (8000, 16000, 24000, 32000, 48000, 90000)
EVENT_BYTES = 4
"""Payload of a telephone event (RFC 4733 §2.3)."""

Bools = NDArray[np.bool_]


@dataclass
class Packets:
    """What was captured of one flow: same addresses, ports and SSRC; in the order of the file."""

    seq: list[int] = field(default_factory=list)
    timestamp: list[int] = field(default_factory=list)
    at_us: list[int] = field(default_factory=list)
    kind: list[int] = field(default_factory=list)
    size: list[int] = field(default_factory=list)
    dscp: list[int] = field(default_factory=list)

    def add(self, packet: RtpPacket, datagram: Datagram) -> None:
        self.seq.append(packet.sequence_number)
        self.timestamp.append(packet.timestamp)
        self.at_us.append(datagram.at_us)
        self.kind.append(packet.payload_type)
        self.size.append(len(packet.payload))
        self.dscp.append(datagram.dscp)


@dataclass(frozen=True)
class FoundStream:
    """One RTP stream of a capture, of one codec."""

    ssrc: int
    source: str
    destination: str
    payload_type: int
    codec: str | None
    """By payload type; None where that is dynamic and the session's description was not captured."""
    media: str
    """"audio", or "video" where several packets share a timestamp."""
    clock_hz: int
    ptime_ms: float
    """Between packets; between pictures where it is video."""
    first_us: int
    dscp: dict[str, int]
    trace: Trace
    """Sent by RTP timestamp, arrived by capture time, the fastest packet at zero delay."""
    skew_ppm: float | None
    """Of the sender's media clock against the capture's; None where the stream is too short to tell."""
    notes: tuple[str, ...]
    """What was found in it that a reader must know."""


@dataclass(frozen=True)
class _Flow:
    """A flow's packets in arrays of shape (packets,), in the order they arrived; ``number`` goes on over every wrap."""

    number: Ints
    timestamp: Ints
    at_us: Ints
    kind: Ints
    size: Ints
    dscp: Ints

    def __len__(self) -> int:
        return len(self.number)

    def __getitem__(self, which: Bools | Ints) -> _Flow:
        return _Flow(
            self.number[which], self.timestamp[which], self.at_us[which], self.kind[which], self.size[which],
            self.dscp[which],
        )  # fmt: skip


def streams_of(source: str, destination: str, ssrc: int, packets: Packets) -> Iterator[FoundStream]:
    """The streams of one flow, one a codec; none where what was captured is no stream."""
    if len(packets.seq) < MIN_PACKETS:
        return
    columns = [packets.seq, packets.timestamp, packets.at_us, packets.kind, packets.size, packets.dscp]
    flow = _Flow(*(np.array(column, dtype=np.int64) for column in columns))
    flow = flow[np.argsort(flow.at_us, kind="stable")]
    notes: list[str] = []
    flow = _once(flow, notes)
    clock = _clock_of(flow)
    numbered = _numbered(flow, clock, notes)
    if numbered is None:
        return
    speech = _speech(numbered)
    parts = _parts(numbered, speech)
    if len(parts) > 1:
        kinds = " → ".join(_name(int(numbered.kind[part & speech][0])) for part in parts)
        notes.append(f"Its codec changed in mid-stream ({kinds}); each part is judged by itself.")
    for part in parts:
        stream = _stream((source, destination, ssrc), numbered[part], list(notes))
        if stream is not None:
            yield stream


def _once(flow: _Flow, notes: list[str]) -> _Flow:
    """The flow with each packet once where the capture shows each one twice or more."""
    key = flow.number << 32 | flow.timestamp
    _, first, copies = np.unique(key, return_index=True, return_counts=True)
    doubled = copies > 1
    if np.count_nonzero(doubled) < MIRRORED_SHARE * len(copies):
        return flow
    times = int(np.median(copies[doubled]))
    notes.append(
        f"The capture shows its packets {'twice' if times == 2 else f'{times} times'} (a mirror port in and out, or "
        "two interfaces): the first copy counts, and real duplicates cannot be told."
    )
    return flow[np.sort(first)]


def _numbered(flow: _Flow, clock_hz: int, notes: list[str]) -> _Flow | None:
    """The flow with numbers that go on: over wraps, over an outage of any length, over a sender that begins anew.

    Strays, few in a row and far from their neighbours, are dropped. None where hardly anything belongs together.
    """
    whole = len(flow)
    while True:
        jumps = np.flatnonzero(np.abs(_signed(np.diff(flow.number), 16)) > MAX_STEP) + 1
        bounds = [0, *jumps.tolist(), len(flow)]
        lengths = np.diff(bounds)
        stray = lengths < STRAY_PACKETS
        if not stray.any() or stray.all():
            break
        flow = flow[np.repeat(~stray, lengths)]  # what they lay between may belong together
    if len(flow) < max(MIN_PACKETS, STEADY_SHARE * whole) or (len(bounds) - 1) * MIN_PACKETS > len(flow):
        return None
    out = np.empty(len(flow), np.int64)
    ticks = _tick_step(flow)
    restarts = 0
    for i, (begin, end) in enumerate(pairwise(bounds)):
        base = int(flow.number[0]) + 65536
        if i:
            last = int(out[begin - 1])
            missing = _outage(flow, begin, clock_hz, ticks)
            restarts += missing is None
            base = last + (1 if missing is None else missing)
        steps = np.concatenate(([0], np.cumsum(_signed(np.diff(flow.number[begin:end]), 16))))
        # The first packet of a stretch may itself have been overtaken.
        out[begin:end] = base + steps
        if i and missing is None:
            out[begin:end] += max(0, int(out[:begin].max()) + 1 - int(out[begin:end].min()))
    if restarts:
        times = "once" if restarts == 1 else f"{restarts} times"
        notes.append(f"Its sequence numbers began anew {times}: what was lost at that moment is not known.")
    return _Flow(out, flow.timestamp, flow.at_us, flow.kind, flow.size, flow.dscp)


def _outage(flow: _Flow, at: int, clock_hz: int, ticks: float) -> int | None:
    """How far numbers went on over a pause, if they and the timestamps went on as time did; None if they did not."""
    waited_us = int(flow.at_us[at] - flow.at_us[at - 1])
    interval_us = ticks * 1e6 / clock_hz if ticks else 20_000.0
    if waited_us < OUTAGE_US:
        return None
    expected = waited_us / interval_us
    step = int(flow.number[at] - flow.number[at - 1]) % 65536
    missing = step + 65536 * max(0, round((expected - step) / 65536))
    passed = _signed(np.array([flow.timestamp[at] - flow.timestamp[at - 1]]), 32)[0] * 1e6 / clock_hz
    by_number = abs(missing - expected) <= max(50, 0.05 * expected)
    by_timestamp = abs(passed - waited_us) <= max(OUTAGE_US, 0.05 * waited_us) or waited_us * clock_hz / 1e6 > 2**31
    return missing if by_number and by_timestamp and missing <= MAX_MISSING else None


def _signed(values: Ints, bits: int) -> Ints:
    """Differences of counters of so many bits, the shorter way round."""
    half = 1 << (bits - 1)
    return np.asarray((values + half) % (1 << bits) - half, dtype=np.int64)


def _tick_step(flow: _Flow) -> float:
    """Timestamp units from one packet to the next: the usual one; 0 where there is none."""
    if len(flow) < 2:
        return 0.0
    steps = _signed(np.diff(flow.timestamp), 32)[_signed(np.diff(flow.number), 16) == 1]
    steps = steps[steps > 0]
    return float(np.median(steps)) if len(steps) else 0.0


def _packets(count: int) -> str:
    return "1 packet is" if count == 1 else f"{count} packets are"


def _usual(values: Ints) -> int:
    return int(Counter(values.tolist()).most_common(1)[0][0])


def _event(flow: _Flow) -> Bools:
    """Digits pressed: their timestamps stand still while they last."""
    return np.asarray((flow.size == EVENT_BYTES) & (flow.kind != _usual(flow.kind)) & (flow.kind >= 96))


def _noise(flow: _Flow) -> Bools:
    return np.asarray(np.isin(flow.kind, COMFORT_NOISE) & (flow.kind != _usual(flow.kind)))


def _speech(flow: _Flow) -> Bools:
    """Which packets are the media itself."""
    return np.asarray(~(_event(flow) | _noise(flow)))


def _parts(flow: _Flow, speech: Bools) -> list[Bools]:
    """One mask for each stretch of one codec, in order of the numbers; what lies between belongs to the one before."""
    order = np.argsort(flow.number, kind="stable")
    kinds = flow.kind[order][speech[order]]
    if len(kinds) == 0:
        return []
    begins = [0, *(np.flatnonzero(np.diff(kinds)) + 1).tolist()]
    long = [b for b, e in zip(begins, [*begins[1:], len(kinds)], strict=True) if e - b >= MIN_PACKETS]
    starts: list[int] = []
    for begin in long:
        if not starts or kinds[begin] != kinds[starts[-1]]:
            starts.append(begin)
    if len(starts) < 2:
        return [np.ones(len(flow), dtype=np.bool_)]
    numbers = flow.number[order][speech[order]]
    edges = [np.iinfo(np.int64).min, *(int(numbers[s]) for s in starts[1:]), np.iinfo(np.int64).max]
    return [(flow.number >= low) & (flow.number < high) for low, high in pairwise(edges)]


def _stream(key: tuple[str, str, int], flow: _Flow, notes: list[str]) -> FoundStream | None:
    speech = _speech(flow)
    if np.count_nonzero(speech) < MIN_PACKETS:
        return None
    kind = _usual(flow.kind[speech])
    codec = _codec(kind)
    every, first = np.unique(flow.number, return_index=True)
    once = flow[first]
    noise = _noise(once)
    timed = (once.kind == kind) | noise
    others = np.count_nonzero(~timed)
    if others:
        notes.append(
            f"{_packets(int(others))} telephone events (keys pressed) or the like: their own timing is not told."
        )
    if noise.any():
        notes.append(f"{_packets(int(np.count_nonzero(noise)))} comfort noise: the sender fell silent on purpose.")
    numbers, at_us = every[timed], once.at_us[timed]
    ticks = np.concatenate(([0], np.cumsum(_signed(np.diff(once.timestamp[timed]), 32))))
    if len(np.unique(ticks)) < 5:
        return None
    clock = codec.clock_hz if codec else _clock_hz(ticks, at_us)
    pictures = len(np.unique(ticks)) < 0.7 * len(ticks)
    sent_us = ticks * 1e6 / clock
    if not pictures:
        sent_us = without_jumps(sent_us, at_us, numbers, notes)
    sent_us = np.maximum.accumulate(sent_us)
    steps = np.diff(sent_us) / np.diff(numbers)
    if pictures:
        steps = np.diff(np.unique(sent_us))
        notes.append("Packets of one picture share a timestamp: variation includes the sender's own pacing.")
    ptime_ms = float(np.median(steps)) / 1000 if len(steps) else 20.0
    if others:
        # What has no timing of its own is given that of its neighbours: it can be lost, but not late.
        delay = np.interp(every, numbers, at_us - sent_us)
        all_sent = once.at_us - delay
        all_sent[timed] = sent_us
        numbers, sent_us = every, np.maximum.accumulate(all_sent)
    whole = np.arange(every[0], every[-1] + 1)
    sent = np.rint(spread(whole, numbers, sent_us, 0 if pictures else ptime_ms * 1000)).astype(np.int64)
    try:
        trace = build_trace(whole, np.maximum.accumulate(sent), flow.number, flow.at_us)
    except TraceError:
        return None
    if not trace.arrived.any():
        return None
    trace, skew = _on_one_clock(trace)
    return FoundStream(
        ssrc=key[2],
        source=key[0],
        destination=key[1],
        payload_type=kind,
        codec=codec.name if codec else None,
        media="video" if pictures else "audio",
        clock_hz=clock,
        ptime_ms=ptime_ms,
        first_us=int(flow.at_us[0]),
        dscp={str(mark): count for mark, count in sorted(Counter(flow.dscp.tolist()).items())},
        trace=trace,
        skew_ppm=skew,
        notes=tuple(notes),
    )


def _codec(payload_type: int) -> Codec | None:
    name = STATIC_TYPES.get(payload_type)
    return codec_table()[name] if name else None


def _name(payload_type: int) -> str:
    codec = _codec(payload_type)
    return codec.title if codec else f"payload type {payload_type}"


def _clock_of(flow: _Flow) -> int:
    """The media clock of the flow's usual payload type."""
    kind = _usual(flow.kind)
    codec = _codec(kind)
    mine = flow[flow.kind == kind]
    steps = np.where(np.abs(_signed(np.diff(mine.timestamp), 32)) > 2**24, 0, _signed(np.diff(mine.timestamp), 32))
    return codec.clock_hz if codec else _clock_hz(np.concatenate(([0], np.cumsum(steps))), mine.at_us)


def _clock_hz(ticks: NDArray[np.int64], at_us: Ints) -> int:
    """The usual media clock that fits best: by the median pace, which a hold or a jump does not change."""
    took = np.diff(at_us) / 1e6
    moved = np.diff(ticks).astype(float)
    # Over fifty packets each, so that what the network did between two of them does not count.
    pace = [
        moved[i : i + 50].sum() / took[i : i + 50].sum()
        for i in range(0, len(moved), 50)
        if took[i : i + 50].sum() > 0 and moved[i : i + 50].sum() > 0
    ]
    if not pace:
        return 8000
    measured = float(np.median(pace))
    return min(_CLOCKS_HZ, key=lambda hz: abs(math.log(max(measured, 1.0) / hz)))


def _on_one_clock(trace: Trace) -> tuple[Trace, float | None]:
    """Arrivals moved so that the fastest packet has no delay, and the media clock's drift is gone."""
    skew = drift_ppm(trace)
    if skew is not None:
        trace = trace.shifted(0.0, skew, int(trace.recv_us[trace.arrived][0]))
    return trace.shifted(float(trace.delay_us.min())), skew
