"""From a trace to the quality a listener had: the call as a whole and each second of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from tarnfell.core import emodel, playout, streams
from tarnfell.core.codecs import Band, Codec
from tarnfell.core.playout import Playout
from tarnfell.core.quantiles import quantiles_of_each
from tarnfell.core.streams import StreamMetrics
from tarnfell.core.trace import Trace

Floats = NDArray[np.float64]

MOS_SCALE = "MOS-CQEN"
"""Estimated conversational quality of a narrowband call (P.800.1 §7)."""

MOS_SCALE_WIDE = "MOS-CQEW"
"""The same on the wideband scale (P.800.1 §7), on which wideband calls are judged; by R all calls stand on it."""

STRETCH_S = 10
"""The shortest outage that spoils a conversation for good; a call's worst stretch of this length is judged as well."""


@dataclass(frozen=True)
class Criterion:
    """How a stream is judged: the codec's tolerance, the listener's buffer, the fixed parts of the delay."""

    ie: float
    bpl: float
    ptime_ms: float
    look_ahead_ms: float = 0.0
    buffer_ms: float = playout.DEFAULT_BUFFER_MS
    """Of a fixed buffer; the ceiling of an adaptive one."""
    device_ms: float = 0.0
    band: Band = "narrow"
    adaptive: bool = False

    def play(self, trace: Trace) -> Playout:
        return playout.adaptive(trace, self.buffer_ms) if self.adaptive else playout.fixed(trace, self.buffer_ms)

    def rating(self, one_way_ms: ArrayLike, loss_pct: ArrayLike, burst_ratio: ArrayLike) -> Floats:
        """R, unclamped; shapes broadcast."""
        if self.band == "wide":
            return emodel.rate_wideband(one_way_ms, loss_pct, burst_ratio, self.ie, self.bpl)
        return emodel.rate(one_way_ms, loss_pct, burst_ratio, self.ie, self.bpl).R

    def mos(self, R: ArrayLike) -> Floats:
        """On the codec's own scale."""
        return emodel.mos_wideband_from_r(R) if self.band == "wide" else emodel.mos_from_r(R)

    @property
    def fixed_ms(self) -> float:
        """What every call has between mouth and ear besides the way and the buffer."""
        return self.ptime_ms + self.look_ahead_ms + self.device_ms

    @property
    def mos_scale(self) -> str:
        return MOS_SCALE_WIDE if self.band == "wide" else MOS_SCALE

    @property
    def most_r(self) -> float:
        return emodel.RO_WIDEBAND if self.band == "wide" else 100.0


def criterion_for(
    codec: Codec, ptime_ms: int, buffer_ms: float = playout.DEFAULT_BUFFER_MS, adaptive: bool = False
) -> Criterion:
    """The criterion of ``codec`` sent every ``ptime_ms``."""
    return Criterion(codec.ie, codec.bpl, ptime_ms, codec.look_ahead_ms, buffer_ms, band=codec.band, adaptive=adaptive)


@dataclass(frozen=True)
class StreamQuality:
    """One direction of one call, judged. Quality is None where nothing arrived."""

    metrics: StreamMetrics
    late: int
    effective_loss_pct: float
    effective_burst_ratio: float
    mouth_to_ear_ms: float | None
    r_factor: float | None
    mos: float | None

    def fields(self) -> dict[str, Any]:
        """Everything flat, by the names that files and the command line use."""
        # Not by asdict, which copies deeply what holds but numbers: a fifteenth of the time that a call takes.
        return {**vars(self.metrics), **{name: value for name, value in vars(self).items() if name != "metrics"}}


def judge(trace: Trace, criterion: Criterion, played: Playout | None = None) -> StreamQuality:
    """Metrics, playout and E-model of one stream, with its delay as the trace's clocks give it.

    ``played`` is what ``criterion`` makes of the trace, for whoever has it already.
    """
    metrics = streams.measure(trace)
    played = played or criterion.play(trace)
    loss, ratio = played.effective_loss_pct, played.effective_burst_ratio
    ear = mouth_to_ear_ms(played.mean_base_ms, played.mean_depth_ms, criterion)
    r_factor = mos = None
    if ear is not None:
        R = criterion.rating(ear, loss, ratio)
        r_factor = float(emodel.clamp_r(R, criterion.most_r))
        mos = float(criterion.mos(R))
    return StreamQuality(metrics, played.late_count, loss, ratio, ear, r_factor, mos)


def mouth_to_ear_ms(base_ms: float | None, depth_ms: float, criterion: Criterion) -> float | None:
    """Ta: fastest delay of the route in use, depth of the buffer, packet interval, look-ahead, device; means of a call.

    None where nothing arrived.

    A clock estimate can put the fastest packet a hair before zero; delay is then taken as zero.
    """
    if base_ms is None:
        return None
    return max(0.0, base_ms) + depth_ms + criterion.fixed_ms


@dataclass(frozen=True)
class Seconds:
    """Each second of a call by planned position. All arrays have shape (seconds,)."""

    sent: NDArray[np.int64]
    lost: NDArray[np.int64]
    late: NDArray[np.int64]
    delay_p50_ms: Floats
    """NaN where nothing arrived in that second."""
    pdv_max_ms: Floats
    mos: Floats
    """1.0 for a second of which nothing was played."""
    depth_ms: Floats
    """Of the listener's buffer, above its base."""
    base_ms: Floats
    """What the buffer stands on, above the call's fastest packet; NaN where nothing arrived."""


def judge_seconds(trace: Trace, criterion: Criterion, played: Playout | None = None) -> Seconds:
    """Quality second by second (G.107 applied to each second's own loss and run lengths).

    A second is the packets sent in it, and its mouth-to-ear delay what the buffer stood at then. ``played`` as of
    ``judge``.
    """
    second = playout.seconds_of(trace)
    count = int(second[-1]) + 1
    played = played or criterion.play(trace)
    floor = float(trace.delay_us.min()) / 1000 if trace.arrived.any() else None
    p50, most = quantiles_of_each(trace.delay_us / 1000, second[trace.arrived], count, (50, 100))
    return Seconds(
        sent=np.bincount(second, minlength=count),
        lost=np.bincount(second[~trace.arrived], minlength=count),
        late=np.bincount(second[played.late], minlength=count),
        delay_p50_ms=p50,
        pdv_max_ms=most - (np.nan if floor is None else floor),
        mos=_stretch_mos(trace, played, criterion, (1,))[0],
        depth_ms=played.depth_ms,
        base_ms=played.base_ms - (np.nan if floor is None else floor),
    )


@dataclass(frozen=True)
class Worst:
    """The lowest MOS of a call, by the second and by the stretch of ten seconds."""

    second_mos: float
    stretch_mos: float


def worst_of(trace: Trace, criterion: Criterion, played: Playout | None = None) -> Worst:
    """The lowest of ``judge_seconds``' MOS, and of any ten seconds on end (the whole call where it is shorter)."""
    second, stretch = _stretch_mos(trace, played or criterion.play(trace), criterion, (1, STRETCH_S))
    return Worst(float(second.min()), float(stretch.min()))


def _stretch_mos(trace: Trace, played: Playout, criterion: Criterion, lengths: Sequence[int]) -> list[Floats]:
    """For each of ``lengths`` the MOS of every so many seconds on end, shape (seconds − length + 1,), at least one."""
    second = playout.seconds_of(trace)
    count = int(second[-1]) + 1
    sent = np.bincount(second, minlength=count)
    if played.mean_base_ms is None:
        return [np.ones(max(1, count - length + 1)) for length in lengths]
    missed = np.bincount(second[played.missed], minlength=count)
    # A run that crosses into a stretch starts anew in it.
    begins = played.missed.copy()
    begins[1:] &= ~played.missed[:-1]
    begun = np.bincount(second[begins], minlength=count)
    crosses = np.zeros(count, dtype=np.int64)
    first = np.searchsorted(second, np.arange(count))
    inside = (first > 0) & (first < len(second))
    crosses[inside] = played.missed[first[inside]] & played.missed[first[inside] - 1]
    totals = np.zeros((5, count + 1))
    np.cumsum([sent, missed, begun, played.base_ms, played.depth_ms], axis=1, out=totals[:, 1:])

    parts = []
    for length in (min(one, count) for one in lengths):
        parts.append(totals[:, length:] - totals[:, :-length])
        parts[-1][2] += crosses[: count - length + 1]
        parts[-1][3:] /= length
    gone, lost, runs, base, depth = np.concatenate(parts, axis=1)
    fraction = lost / np.maximum(gone, 1)
    ratio = np.maximum(1.0, lost / np.maximum(runs, 1) * (1 - fraction))
    ear = np.maximum(0.0, base) + depth + criterion.fixed_ms
    mos = np.where((gone > 0) & (lost == gone), 1.0, criterion.mos(criterion.rating(ear, 100 * fraction, ratio)))
    return np.split(mos, np.cumsum([part.shape[1] for part in parts])[:-1])


@dataclass(frozen=True)
class MosLoss:
    """Where a stream's MOS went, in MOS: codec first, then delay; what was missed is shared between lost and late."""

    best: float
    codec: float
    delay: float
    loss: float
    late: float


def explain(judged: StreamQuality, criterion: Criterion) -> MosLoss | None:
    """What codec, delay, network loss and lateness each cost. None where nothing arrived.

    Loss and lateness act together and the scale has a floor, so their common cost is split by their numbers.
    """
    if judged.mouth_to_ear_ms is None or judged.mos is None:
        return None

    def mos(delay_ms: float, ie: float) -> float:
        return float(criterion.mos(replace(criterion, ie=ie).rating(delay_ms, 0, 1)))

    best, with_codec = mos(0, 0), mos(0, criterion.ie)
    with_delay = mos(judged.mouth_to_ear_ms, criterion.ie)
    missed = with_delay - judged.mos
    count = judged.metrics.lost + judged.late
    lost_share = judged.metrics.lost / count if count else 0.0
    return MosLoss(
        best=best,
        codec=best - with_codec,
        delay=with_codec - with_delay,
        loss=missed * lost_share,
        late=missed * (1 - lost_share),
    )
