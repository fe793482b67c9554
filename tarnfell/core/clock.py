"""Two clocks on one scale: offset and skew from the two-way time-stamp exchange.

Both directions' fastest exchanges are taken to have travelled equally long.
Half the fastest round trip bounds how wrong that can be.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]

MIN_EXCHANGES = 4
_SKEW_WINDOWS = 10
_SKEW_MIN_SPAN_NS = 20e9
"""Over less time than this, queueing looks like skew."""


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


SHARED = ClockRelation("shared", uncertainty_ms=0.0)
UNKNOWN = ClockRelation("unknown")


def from_round_trip(round_trip_us: int) -> ClockRelation:
    """From RTCP's fastest round trip alone (RFC 3550 §6.4.1): one way is half of it, known no better than that."""
    return ClockRelation("round trip", uncertainty_ms=round_trip_us / 2000)


def estimate(exchanges: Exchanges) -> ClockRelation:
    """Offset and skew from the lower envelope of each direction's delay; ``unknown`` from too few exchanges."""
    n = len(exchanges.t1)
    if n < MIN_EXCHANGES:
        return UNKNOWN
    reference = int(exchanges.t1[0])
    at = (exchanges.t1 - reference).astype(float)
    forth = (exchanges.t2 - exchanges.t1).astype(float)
    back = (exchanges.t4 - exchanges.t3).astype(float)
    skew = _skew(at, forth, back)
    forth, back = forth - skew * at, back + skew * at
    offset = (forth.min() - back.min()) / 2
    return ClockRelation(
        kind="estimated",
        offset_us=offset / 1000,
        skew_ppm=skew * 1e6,
        reference_us=reference // 1000,
        uncertainty_ms=max(0.0, forth.min() + back.min()) / 2 / 1e6,
    )


def _skew(at: Floats, forth: Floats, back: Floats) -> float:
    """Slope of the far clock against ours, from the fastest exchange of each of a few windows.

    Half the difference of both directions holds the offset without what both directions have in common. A window
    whose fastest exchange stood in a queue would tilt the line, so only windows near the overall floor count.
    """
    if at[-1] - at[0] < _SKEW_MIN_SPAN_NS:
        return 0.0
    window = np.minimum((at - at[0]) / (at[-1] - at[0]) * _SKEW_WINDOWS, _SKEW_WINDOWS - 1).astype(int)
    rtt = forth + back
    fastest = [int(i[np.argmin(rtt[i])]) for w in range(_SKEW_WINDOWS) if len(i := np.flatnonzero(window == w))]
    calm = [i for i in fastest if rtt[i] <= rtt.min() * 1.1 + 200_000]
    if len(calm) < 3:
        return 0.0
    offset = (forth[calm] - back[calm]) / 2
    slope = float(np.polyfit(at[calm], offset, 1)[0])
    # A slope within what queueing noise can feign over this span is no skew.
    noise = float(np.ptp(rtt[calm])) / 2 / (at[-1] - at[0])
    return slope if abs(slope) > 2 * noise else 0.0
