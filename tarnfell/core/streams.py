"""What the network did to one stream: loss, reordering, jitter, delay variation.

Counts follow RFC 7680, reordering RFC 4737, jitter RFC 3550 A.8, delay
variation RFC 5481 (PDV), bursts RFC 3611 §4.7.2 and G.107's BurstR.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.quantiles import quantiles
from tarnfell.core.trace import Bools, Ints, Trace

Floats = NDArray[np.float64]

GMIN = 16
"""Packets received in a row that end a burst (RFC 3611 §4.7.2)."""


@dataclass(frozen=True)
class Bursts:
    """Burst and gap metrics of RFC 3611 §4.7.2; densities in percent, lengths in milliseconds."""

    burst_density_pct: float
    gap_density_pct: float
    burst_ms: float
    gap_ms: float


@dataclass(frozen=True)
class StreamMetrics:
    """One direction of one stream. Values that do not exist are None."""

    sent: int
    received: int
    lost: int
    loss_pct: float
    duplicates: int
    reordered: int
    jitter_ms: float
    jitter_max_ms: float
    burst_ratio: float
    longest_loss_run: int
    delay_min_ms: float | None
    delay_p50_ms: float | None
    pdv_p50_ms: float | None
    pdv_p95_ms: float | None
    pdv_p99_ms: float | None
    pdv_p999_ms: float | None
    pdv_max_ms: float | None


def measure(trace: Trace) -> StreamMetrics:
    """All stream metrics of ``trace`` in one pass over its arrays."""
    sent = len(trace)
    received = int(np.count_nonzero(trace.arrived))
    lost = sent - received
    run_lengths = np.diff(loss_runs(~trace.arrived), axis=1)[:, 0]
    jitter = jitter_series_ms(trace)
    delay_min = delay_p50 = p50 = p95 = p99 = p999 = pdv_max = None
    if received:
        delay = trace.delay_us
        floor = int(delay.min())
        p50, p95, p99, p999 = (q / 1000 for q in quantiles(delay - floor, (50, 95, 99, 99.9)))
        pdv_max = float(delay.max() - floor) / 1000
        delay_min = floor / 1000
        delay_p50 = delay_min + p50
    return StreamMetrics(
        sent=sent,
        received=received,
        lost=lost,
        loss_pct=100 * lost / sent,
        duplicates=trace.duplicates,
        reordered=reordered(trace),
        jitter_ms=float(jitter[-1]) if len(jitter) else 0.0,
        jitter_max_ms=float(jitter.max()) if len(jitter) else 0.0,
        burst_ratio=burst_ratio(~trace.arrived),
        longest_loss_run=int(run_lengths.max()) if len(run_lengths) else 0,
        delay_min_ms=delay_min,
        delay_p50_ms=delay_p50,
        pdv_p50_ms=p50,
        pdv_p95_ms=p95,
        pdv_p99_ms=p99,
        pdv_p999_ms=p999,
        pdv_max_ms=pdv_max,
    )


def loss_runs(lost: Bools) -> Ints:
    """Maximal runs of consecutive losses: shape (runs, 2), first index and one past the last."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], lost, [False]))))
    return edges.reshape(-1, 2)


def burst_ratio(lost: Bools) -> float:
    """BurstR (G.107 §7.5): mean observed run of losses over the mean expected of random loss, at least 1.

    1 where there is no loss. Under random loss of fraction p a run is 1 / (1 - p) long on average.
    """
    count = int(np.count_nonzero(lost))
    if count == 0:
        return 1.0
    runs = int(np.count_nonzero(lost[1:] & ~lost[:-1])) + int(lost[0])
    return max(1.0, count / runs * (1 - count / len(lost)))


def reordered(trace: Trace) -> int:
    """First copies that arrived with a sequence number below the next expected (RFC 4737 §3.2)."""
    order = trace.arrival_order
    if len(order) < 2 or bool(np.all(order[1:] > order[:-1])):
        return 0
    return int(np.count_nonzero(order < np.maximum.accumulate(order)))


def jitter_series_ms(trace: Trace) -> Floats:
    """Interarrival jitter after each arrival but the first (RFC 3550 §6.4.1, A.8), from actual send times.

    Shape (received - 1,), in arrival order, milliseconds.
    """
    order = trace.arrival_order
    transit = (trace.recv_us[order] - trace.sent_us[order]).astype(np.float64)
    difference = np.abs(np.diff(transit))
    return _smoothed(difference, 1 / 16) / 1000


_AT_ONCE = 256


def _smoothed(values: Floats, gain: float) -> Floats:
    """``j += gain * (value - j)`` from 0 on, for each value; shape as given.

    As sums of scaled values over stretches, short enough that the scale stays exact (16/15 to the 256th is 1.5e7), each
    beginning where the one before ended.
    """
    keeps = 1 - gain
    count = len(values)
    table = np.zeros((-(-count // _AT_ONCE), _AT_ONCE))
    table.flat[:count] = values
    scale = keeps ** np.arange(_AT_ONCE)
    table = gain * np.cumsum(table / scale, axis=1) * scale
    carried = 0.0
    fades = keeps * scale
    for row in table:
        row += carried * fades
        carried = float(row[-1])
    return np.asarray(table.ravel()[:count])


def ipdv_ms(trace: Trace) -> Floats:
    """Delay of each packet minus that of the one before it in sequence, both arrived (RFC 3393 §4.2)."""
    delay = (trace.recv_us - trace.sent_us)[:].astype(np.float64)
    both = trace.arrived[1:] & trace.arrived[:-1]
    return np.asarray(np.diff(delay)[both] / 1000)


def pdv_ms(trace: Trace) -> Floats:
    """Shape (sent,): delay minus the trace's minimum (RFC 5481 §4.1); NaN where nothing arrived."""
    out = np.full(len(trace), np.nan)
    if bool(trace.arrived.any()):
        out[trace.arrived] = (trace.delay_us - trace.delay_us.min()) / 1000
    return out


def bursts(lost: Bools, ptime_ms: float) -> Bursts:
    """Burst and gap metrics with Gmin 16 (RFC 3611 §4.7.2).

    A burst starts and ends with a lost packet and holds no run of Gmin or more received ones;
    a lost packet standing alone with Gmin received on both sides belongs to its gap.
    """
    total = len(lost)
    index = np.flatnonzero(lost)
    if len(index) == 0:
        return Bursts(0.0, 0.0, 0.0, total * ptime_ms)
    groups = np.split(index, np.flatnonzero(np.diff(index) > GMIN) + 1)
    real = [g for g in groups if len(g) > 1]
    in_burst = sum(int(g[-1] - g[0]) + 1 for g in real)
    burst_losses = sum(len(g) for g in real)
    in_gap = total - in_burst
    gap_losses = len(index) - burst_losses
    gaps = len(real) + 1
    if real and real[0][0] == 0:
        gaps -= 1
    if real and real[-1][-1] == total - 1:
        gaps -= 1
    return Bursts(
        burst_density_pct=100 * burst_losses / in_burst if in_burst else 0.0,
        gap_density_pct=100 * gap_losses / in_gap if in_gap else 0.0,
        burst_ms=in_burst / len(real) * ptime_ms if real else 0.0,
        gap_ms=in_gap / gaps * ptime_ms if gaps else 0.0,
    )
