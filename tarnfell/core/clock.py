"""Two clocks on one scale: offset and skew from what went both ways between two ends.

That is the time-stamp exchange or, where none was answered, the media itself. Both directions' fastest packets are
taken to have travelled equally long. Half the fastest round trip bounds how wrong that can be, so every estimate is an
interval that holds the truth; a run whose queue never emptied has a wide one, and is put right by the runs around it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.trace import Trace

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]

MIN_EXCHANGES = 4
_SKEW_WINDOWS = 10
_SKEW_MIN_SPAN_NS = 20e9
"""Over less time than this, queueing looks like skew."""
UNSEEN_SKEW_PPM = 100.0
"""What two ordinary crystals may differ by, each 50 ppm off; what skew may be where none could be measured."""
_ROUNDING_NS = 1e6
MEDIA_WINDOW_US = 1_000_000
CALM_MS = 1.0
"""A run whose fastest round trip is within twice this of its pair's fastest had an empty queue for once."""
MIN_CALM_RUNS = 3
MOST_SKEW_PPM = 500.0
_STRETCHES = 20
DRIFT_FROM_S = 30.0


@dataclass(frozen=True)
class Exchanges:
    """Answered time-stamp exchanges, shape (n,), nanoseconds: t1, t4 on the probe's clock, t2, t3 on the far end's."""

    t1: Ints
    t2: Ints
    t3: Ints
    t4: Ints

    @property
    def round_trip_ms(self) -> Floats:
        """Shape (n,): round trip without the far end's own time."""
        return np.asarray((self.t4 - self.t1) - (self.t3 - self.t2), dtype=float) / 1e6


@dataclass(frozen=True)
class ClockRelation:
    """How the far end's clock stands to the probe's.

    ``offset_us`` is far end minus probe at ``reference_us`` (probe's clock); it grows by ``skew_ppm``.
    ``uncertainty_ms`` is 0 for one shared clock and None when nothing is known. Of kind "round trip" the clocks are not
    related, but the fastest packet of each direction is taken to have needed half the fastest round trip.
    """

    kind: Literal["shared", "estimated", "round trip", "unknown"]
    offset_us: float = 0.0
    skew_ppm: float = 0.0
    reference_us: int = 0
    uncertainty_ms: float | None = None

    @property
    def one_way_us(self) -> int:
        """Half the round trip, of kind "round trip"."""
        return round((self.uncertainty_ms or 0.0) * 1000)

    def on_senders_clock(self, trace: Trace, up: bool) -> Trace:
        """A trace as recorded, its arrivals moved from the receiver's clock to the sender's."""
        if up:
            return trace.shifted(self.offset_us, self.skew_ppm, self.reference_us + round(self.offset_us))
        return trace.shifted(-self.offset_us, -self.skew_ppm, self.reference_us)


SHARED = ClockRelation("shared", uncertainty_ms=0.0)
UNKNOWN = ClockRelation("unknown")


def from_round_trip(round_trip_us: int) -> ClockRelation:
    """From RTCP's fastest round trip alone (RFC 3550 §6.4.1): one way is half of it, known no better than that."""
    return ClockRelation("round trip", uncertainty_ms=round_trip_us / 2000)


def estimate(exchanges: Exchanges) -> ClockRelation:
    """Offset and skew from the lower envelope of each direction's delay; ``unknown`` from too few exchanges."""
    forth = (exchanges.t2 - exchanges.t1).astype(float)
    back = (exchanges.t4 - exchanges.t3).astype(float)
    return _estimate(exchanges.t1, forth, back)


def estimate_from_media(up: Iterable[Trace], down: Iterable[Trace]) -> ClockRelation:
    """The same from streams that went both ways, each trace on its two ends' clocks as recorded.

    Each second's fastest packet up and fastest packet down make one exchange. ``unknown`` where fewer than four seconds
    had both.
    """
    forth, back = (_fastest_by_window(traces, at_sender) for traces, at_sender in ((up, True), (down, False)))
    both = sorted(forth.keys() & back.keys())
    at_ns = np.array(both, dtype=np.int64) * MEDIA_WINDOW_US * 1000
    return _estimate(at_ns, *(1000 * np.array([side[w] for w in both], dtype=float) for side in (forth, back)))


def _fastest_by_window(traces: Iterable[Trace], at_sender: bool) -> dict[int, int]:
    """The least difference of the two clocks' readings (µs), by second of the probe's clock."""
    fastest: dict[int, int] = {}
    for trace in traces:
        at = (trace.sent_us if at_sender else trace.recv_us)[trace.arrived] // MEDIA_WINDOW_US
        if len(at) == 0:
            continue
        order = np.argsort(at, kind="stable")
        first = np.flatnonzero(np.diff(at[order], prepend=-1))
        least = np.minimum.reduceat(trace.delay_us[order], first)
        for window, value in zip(at[order][first].tolist(), least.tolist(), strict=True):
            fastest[window] = min(value, fastest.get(window, value))
    return fastest


def _estimate(at_ns: Ints, forth: Floats, back: Floats) -> ClockRelation:
    """From far end minus probe (``forth``) and probe minus far end (``back``), ns, shape (n,), at ``at_ns``."""
    if len(at_ns) < MIN_EXCHANGES:
        return UNKNOWN
    reference = int(at_ns[0])
    at = (at_ns - reference).astype(float)
    skew, unseen = _skew(at, forth, back)
    forth, back = forth - skew * at, back + skew * at
    if forth.min() + back.min() < -_ROUNDING_NS:
        return UNKNOWN  # a clock was set in between: no packet arrives before it was sent
    return ClockRelation(
        kind="estimated",
        offset_us=(forth.min() - back.min()) / 2 / 1000,
        skew_ppm=skew * 1e6,
        reference_us=reference // 1000,
        uncertainty_ms=(max(0.0, forth.min() + back.min()) / 2 + unseen * (at[-1] - at[0])) / 1e6,
    )


def settle(own: ClockRelation, others: Sequence[ClockRelation]) -> ClockRelation:
    """A run's relation put right by those of the same two ends' other runs, if they know better.

    Where a queue stood full through a whole run, the fastest packets of both directions do not tell whose queue it
    was; the clocks do, if runs before and after met an empty one. Those runs' offset is carried over: between two in a
    straight line, beyond them unchanged. How far such a line misses the calm runs themselves is added to the
    uncertainty. What it says must lie within what the run itself allows; otherwise a clock was set, and the run's own
    estimate stands.
    """
    if own.kind != "estimated" or own.uncertainty_ms is None:
        return own
    usable = [o for o in others if o.kind == "estimated" and o.uncertainty_ms is not None]
    least = min((o.uncertainty_ms or 0.0 for o in usable), default=np.inf)
    calm = sorted((o for o in usable if (o.uncertainty_ms or 0.0) <= least + CALM_MS), key=lambda o: o.reference_us)
    if len(calm) < MIN_CALM_RUNS:
        return own
    at = np.array([o.reference_us for o in calm], dtype=float)
    offset = np.array([o.offset_us for o in calm])
    misses = [abs(offset[i] - np.interp(at[i], np.delete(at, i), np.delete(offset, i))) for i in range(len(calm))]
    found = float(np.interp(own.reference_us, at, offset))
    uncertainty_ms = max(o.uncertainty_ms or 0.0 for o in calm) + float(max(misses)) / 1000
    if uncertainty_ms >= own.uncertainty_ms - CALM_MS:
        return own
    if abs(found - own.offset_us) > (own.uncertainty_ms + float(max(misses)) / 1000) * 1000:
        return own
    return replace(own, offset_us=found, uncertainty_ms=uncertainty_ms)


def drift_ppm(trace: Trace) -> float | None:
    """How fast one clock runs away from the other, from one direction alone; None where it is too short to tell.

    From the fastest packet of each of twenty stretches: the median of how it changes from one to the next, so that a
    route that became longer or shorter, or a queue that stood for a while, tilts nothing. 0 where the changes agree on
    no slope, or on one that no clock has.
    """
    sent, delay = trace.sent_us[trace.arrived], trace.delay_us
    if len(sent) < 2 * _STRETCHES or float(sent[-1] - sent[0]) < DRIFT_FROM_S * 1e6:
        return None
    stretches = np.array_split(np.arange(len(sent)), _STRETCHES)
    fastest = np.array([int(s[np.argmin(delay[s])]) for s in stretches])
    apart = np.maximum(np.diff(sent[fastest]), 1).astype(float)
    slopes = np.diff(delay[fastest]) / apart * 1e6
    slope = float(np.median(slopes))
    spread = float(np.median(np.abs(slopes - slope)))
    certain = abs(slope) > 2 * 1.4826 * spread / np.sqrt(len(slopes))
    return slope if certain and abs(slope) <= MOST_SKEW_PPM else 0.0


def _skew(at: Floats, forth: Floats, back: Floats) -> tuple[float, float]:
    """Slope of the far clock against ours, from the fastest exchange of each of a few windows; and how far off it may
    be.

    Half the difference of both directions holds the offset without what both directions have in common. A window
    whose fastest exchange stood in a queue would tilt the line, so only windows near the overall floor count.
    """
    unseen = UNSEEN_SKEW_PPM * 1e-6
    if at[-1] - at[0] < _SKEW_MIN_SPAN_NS:
        return 0.0, unseen
    window = np.minimum((at - at[0]) / (at[-1] - at[0]) * _SKEW_WINDOWS, _SKEW_WINDOWS - 1).astype(int)
    rtt = forth + back
    fastest = [int(i[np.argmin(rtt[i])]) for w in range(_SKEW_WINDOWS) if len(i := np.flatnonzero(window == w))]
    calm = [i for i in fastest if rtt[i] <= rtt.min() * 1.1 + 200_000]
    if len(calm) < 3:
        return 0.0, unseen
    offset = (forth[calm] - back[calm]) / 2
    slope = float(np.polyfit(at[calm], offset, 1)[0])
    # A slope within what queueing noise can feign over this span is no skew.
    noise = float(np.ptp(rtt[calm])) / 2 / (at[-1] - at[0])
    return (slope, 0.0) if abs(slope) > 2 * noise else (0.0, min(unseen, 2 * noise))
