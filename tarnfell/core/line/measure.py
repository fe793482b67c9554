"""Figures of each phase, from the packets of the calls, the time stamps, and what the streams moved."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tarnfell.core import playout
from tarnfell.core.clock import Exchanges
from tarnfell.core.line.values import SIDES, FillLimits, Instant, Limit, PhaseFigures, SecondMos, Side, SideFigures
from tarnfell.core.playout import Playout
from tarnfell.core.quality import Criterion, judge_seconds
from tarnfell.core.streams import burst_ratio
from tarnfell.core.trace import Trace
from tarnfell.wire.kinds.fill import SLOT_MS, FillPhase, SenderFacts

SETTLE_S = 2.0
"""Streams begin slowly; what is told of a phase begins so long after it."""
LEAST_PACKETS = 50
MSS_BYTES, PACKET_BYTES = 1448, 1500
"""A full TCP segment with time stamps, and the IPv4 packet that carries it."""
SLOT_LIMIT_MS = 1500
"""Slots told late or not at all at a phase's end; if more are missing, the streams stood still."""
FULL_SHARE = 0.85
"""Of the line's rate as sold: from there on it is taken to be full."""
QUEUED_MS = 20.0
RETRANSMITTED_PCT = 0.2
LIMITED_PCT = 50.0


@dataclass(frozen=True)
class HeldCall:
    """One of the two calls: its packets each way, both ends' times on the sender's clock."""

    traces: Mapping[Side, Trace | None]
    kept_pct: Mapping[Side, float | None]
    """Packets that arrived marked as sent."""


@dataclass(frozen=True)
class Held:
    """What was on the line beside the streams."""

    plain: HeldCall
    marked: HeldCall
    exchanges: Exchanges
    criterion: Criterion

    @property
    def begun_us(self) -> int:
        """The first packet up, on the probe's clock."""
        traces = [call.traces["up"] for call in (self.plain, self.marked)]
        firsts = [int(trace.sent_us[0]) for trace in traces if trace is not None and len(trace)]
        if firsts:
            return min(firsts)
        return int(self.exchanges.t1[0]) // 1000 if len(self.exchanges.t1) else 0

    @property
    def length_s(self) -> float:
        """From the first packet up to the last."""
        traces = [call.traces["up"] for call in (self.plain, self.marked)]
        lasts = [int(trace.sent_us[-1]) for trace in traces if trace is not None and len(trace)]
        return (max(lasts) - self.begun_us) / 1e6 if lasts else 0.0


def phases_of(held: Held, phases: Sequence[FillPhase], limits: FillLimits, ceiling: bool) -> tuple[PhaseFigures, ...]:
    """Of each phase that was reached; the idle one first."""
    idle = next((one for one in phases if one.way == "idle"), None)
    idle_rtt = _round_trips(held.exchanges, idle) if idle else np.empty(0)
    sides = {side: _Side(held, side, idle) for side in SIDES}
    return tuple(_phase(held, one, idle_rtt, sides, limits, ceiling) for one in phases)


def _phase(
    held: Held, phase: FillPhase, idle_rtt: NDArray[np.float64], sides: Mapping[Side, _Side], limits: FillLimits,
    ceiling: bool,
) -> PhaseFigures:  # fmt: skip
    rtt = _round_trips(held.exchanges, phase)
    p50, p95 = (float(q) for q in np.percentile(rtt, [50, 95])) if len(rtt) else (None, None)
    base = float(np.median(idle_rtt)) if len(idle_rtt) else None
    known = base is not None and p50 is not None and p95 is not None
    return PhaseFigures(
        way=phase.way,
        from_s=(phase.from_us - held.begun_us) / 1e6,
        until_s=(phase.until_us - held.begun_us) / 1e6,
        exchanges=len(rtt),
        rtt_p50_ms=p50,
        rtt_p95_ms=p95,
        added_delay_p50_ms=p50 - base if known else None,  # type: ignore[operator]
        added_delay_p95_ms=p95 - base if known else None,  # type: ignore[operator]
        rpm=60_000 / p50 if p50 else None,
        up=sides["up"].figures(phase, limits, ceiling),
        down=sides["down"].figures(phase, limits, ceiling),
        failure=phase.failure,
    )


def settled(phase: FillPhase) -> tuple[int, int]:
    """From when to when its figures are taken, Unix microseconds."""
    return min(phase.from_us + int(SETTLE_S * 1e6), phase.until_us), phase.until_us


def _round_trips(exchanges: Exchanges, phase: FillPhase) -> NDArray[np.float64]:
    lo, hi = settled(phase)
    inside = (exchanges.t1 >= lo * 1000) & (exchanges.t1 < hi * 1000)
    return np.asarray(exchanges.round_trip_ms[inside])


class _Side:
    """One direction of the run."""

    def __init__(self, held: Held, side: Side, idle: FillPhase | None) -> None:
        self._held, self._side = held, side
        self._plain = _Played.of(held.plain.traces[side], held)
        self._marked = _Played.of(held.marked.traces[side], held)
        self._idle_ms, self._marked_idle_ms = (_median(_delays(one, idle)) for one in (self._plain, self._marked))

    def figures(self, phase: FillPhase, limits: FillLimits, ceiling: bool) -> SideFigures:
        slots = phase.up if self._side == "up" else phase.down
        sender = phase.up_sender if self._side == "up" else phase.down_sender
        filled = phase.way in (self._side, "both")
        rate = throughput_kbps(slots, phase) if filled else None
        delays = _delays(self._plain, phase)
        marked_ms = _median(_delays(self._marked, phase))
        added: tuple[float | None, float | None] = (None, None)
        if len(delays) and self._idle_ms is not None:
            p50, p95 = np.percentile(delays, [50, 95]) - self._idle_ms
            added = float(p50), float(p95)
        lost = self._plain.loss_pct(phase) if self._plain else None
        resent = _retransmitted_pct(sender)
        line = limits.line_kbps(self._side)
        at_ip = rate * PACKET_BYTES / MSS_BYTES if rate is not None else None
        full = (
            (line > 0 and at_ip is not None and at_ip >= FULL_SHARE * line)
            or (added[1] is not None and added[1] >= QUEUED_MS)
            or (resent is not None and resent >= RETRANSMITTED_PCT)
        )
        return SideFigures(
            throughput_kbps=rate,
            throughput_ip_kbps=at_ip,
            loss_pct=lost,
            delay_added_p50_ms=added[0],
            delay_added_p95_ms=added[1],
            standing_ms=float(np.median(delays)) - self._plain.least_ms if self._plain and len(delays) else None,
            mos=self._plain.mos(phase) if self._plain else None,
            mos_marked=self._marked.mos(phase) if self._marked else None,
            marked_added_p50_ms=_difference(marked_ms, self._marked_idle_ms),
            marking_kept_pct=self._held.marked.kept_pct[self._side],
            retransmitted_pct=resent,
            tcp_queued_ms=sender.queued_ms if sender else None,
            congestion=sender.congestion if sender else None,
            limited_by=_limited_by(sender, full, ceiling) if filled and rate else None,
            filled=(full and bool(rate)) if filled else None,
        )


def _delays(played: _Played | None, phase: FillPhase | None) -> NDArray[np.float64]:
    """Empty where nothing is known of either."""
    return played.delays(phase) if played and phase else np.empty(0)


def _median(values: NDArray[np.float64]) -> float | None:
    return float(np.median(values)) if len(values) else None


def _difference(value: float | None, base: float | None) -> float | None:
    return None if value is None or base is None else value - base


def throughput_kbps(slots: Sequence[int], phase: FillPhase) -> float | None:
    """Mean of the steady part; None where nothing was moved, or for too short a time to tell."""
    if not any(slots):
        return None
    planned = int((phase.until_us - phase.from_us) / 1000 / SLOT_MS)
    kept = list(slots[:planned])
    if (planned - len(kept)) * SLOT_MS > SLOT_LIMIT_MS:
        kept += [0] * (planned - len(kept))
    skipped = min(int(SETTLE_S * 1000 / SLOT_MS), len(kept) // 2)
    steady = kept[skipped:]
    return sum(steady) * 8 / (len(steady) * SLOT_MS) if steady else None


def steadiness(slots: Sequence[int], phase: FillPhase) -> float | None:
    """The slowest second of the steady part over its mean: near 1 for a flat ceiling."""
    a_second = 1000 // SLOT_MS
    planned = int((phase.until_us - phase.from_us) / 1000 / SLOT_MS)
    kept = slots[int(SETTLE_S * a_second) : planned]
    seconds = [sum(kept[at : at + a_second]) for at in range(0, len(kept) - a_second + 1, a_second)]
    return min(seconds) / (sum(seconds) / len(seconds)) if seconds and sum(seconds) else None


def _retransmitted_pct(sender: SenderFacts | None) -> float | None:
    if sender is None or not sender.sent_bytes or sender.retransmitted_bytes is None:
        return None
    return 100 * sender.retransmitted_bytes / sender.sent_bytes


def _limited_by(sender: SenderFacts | None, full: bool, ceiling: bool) -> Limit | None:
    if full:
        return "network"
    if ceiling:
        return "ceiling"
    if sender and (sender.receiver_limited_pct or 0) >= LIMITED_PCT:
        return "receiver"
    if sender and (sender.sender_limited_pct or 0) >= LIMITED_PCT:
        return "sender"
    return None


@dataclass(frozen=True)
class _Played:
    """A call's direction with what its listener got of it; ``shift_us`` takes the probe's clock to the sender's."""

    trace: Trace
    played: Playout
    criterion: Criterion
    shift_us: int

    @staticmethod
    def of(trace: Trace | None, held: Held) -> _Played | None:
        if trace is None or not len(trace):
            return None
        # Both ends begin to send together: that relates their clocks well enough for phases of seconds.
        return _Played(trace, held.criterion.play(trace), held.criterion, int(trace.sent_us[0]) - held.begun_us)

    def _inside(self, phase: FillPhase) -> NDArray[np.bool_]:
        lo, hi = settled(phase)
        sent = self.trace.sent_us - self.shift_us
        return np.asarray((sent >= lo) & (sent < hi))

    def delays(self, phase: FillPhase) -> NDArray[np.float64]:
        inside = self._inside(phase) & self.trace.arrived
        return np.asarray((self.trace.recv_us - self.trace.sent_us)[inside] / 1000)

    @property
    def least_ms(self) -> float:
        return float(self.trace.delay_us.min()) / 1000

    def loss_pct(self, phase: FillPhase) -> float | None:
        inside = self._inside(phase)
        count = int(inside.sum())
        return 100 * float((inside & ~self.trace.arrived).sum()) / count if count >= LEAST_PACKETS else None

    def mos(self, phase: FillPhase) -> float | None:
        """Of the phase as if it were a call: what its listener missed, at the delay its buffer stood at."""
        inside = self._inside(phase)
        if int(inside.sum()) < LEAST_PACKETS:
            return None
        missed = self.played.missed[inside]
        seconds = np.unique(playout.seconds_of(self.trace)[inside])
        base = self.played.base_ms[seconds]
        if bool(missed.all()) or bool(np.isnan(base).all()):
            return 1.0
        ear = max(0.0, float(np.nanmean(base))) + float(self.played.depth_ms[seconds].mean()) + self.criterion.fixed_ms
        R = self.criterion.rating(ear, 100 * float(missed.mean()), burst_ratio(missed))
        return float(self.criterion.mos(R))


def instants_of(held: Held, until_s: float) -> tuple[Instant, ...]:
    """The largest delays of each tenth of a second, above the least of the run."""
    slots = max(1, int(until_s * 10))

    def largest(at_s: NDArray[np.float64], ms: NDArray[np.float64]) -> list[float | None]:
        out: list[float | None] = [None] * slots
        for slot, value in zip((at_s * 10).astype(int).tolist(), ms.tolist(), strict=True):
            if 0 <= slot < slots:
                known = out[slot]
                out[slot] = value if known is None else max(known, value)
        return out

    def one_way(call: HeldCall, side: Side) -> list[float | None]:
        trace = call.traces[side]
        if trace is None or not trace.arrived.any():
            return [None] * slots
        delay = trace.delay_us / 1000
        return largest((trace.sent_us[trace.arrived] - trace.sent_us[0]) / 1e6, delay - delay.min())

    rtt = largest((held.exchanges.t1 / 1000 - held.begun_us) / 1e6, held.exchanges.round_trip_ms)
    rows = zip(
        rtt, one_way(held.plain, "up"), one_way(held.plain, "down"), one_way(held.marked, "up"),
        one_way(held.marked, "down"), strict=True,
    )  # fmt: skip
    return tuple(Instant(slot / 10, *row) for slot, row in enumerate(rows))


def seconds_of(held: Held) -> tuple[SecondMos, ...]:
    def each(call: HeldCall, side: Side) -> list[float]:
        trace = call.traces[side]
        return [] if trace is None or not len(trace) else judge_seconds(trace, held.criterion).mos.tolist()

    rows = [each(call, side) for call in (held.plain, held.marked) for side in SIDES]
    length = max(map(len, rows), default=0)
    filled = [[*row, *[None] * (length - len(row))] for row in rows]
    return tuple(
        SecondMos(float(second), *values) for second, values in enumerate(zip(*filled, strict=True))
    )  # fmt: skip
