"""One direction looked at closely: where each packet went, and the stretches of time a screen has room for.

A screen has room for some hundreds of seconds and some thousands of packets. Of more it is the worst of each stretch
that is drawn: averaged, one dead second would not be seen.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tarnfell.core import streams
from tarnfell.core.playout import Playout
from tarnfell.core.quality import Seconds
from tarnfell.core.trace import Trace

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]

MAX_POINTS = 3000
"""More packets than this in one direction are thinned: worst and best of each stretch stay."""
MAX_STRETCHES = 300
"""Five minutes stand second by second."""
LENGTHS_S = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600)
"""Of a stretch; with the last ``trace.MAX_SPAN_US`` is within ``MAX_STRETCHES``."""


@dataclass(frozen=True)
class PacketPoint:
    at_ms: float
    """Since the first packet was sent."""
    pdv_ms: float | None
    """Delay above the fastest packet; None when it never came."""
    fate: Literal["in time", "late", "lost"]


@dataclass(frozen=True)
class Stretch:
    """So many seconds on end of one direction; the last may be shorter."""

    sent: int
    lost: int
    late: int
    mos: float
    """Of its worst second."""
    edge_least_ms: float
    """Where the listener's buffer ends, above the call's fastest packet, in the second in which it ends first; what
    comes later than that is late."""
    edge_most_ms: float
    """In the second in which it ends last."""


def stretch_length(seconds: int) -> int:
    """Seconds of one stretch of a call or stream that has so many."""
    return next((length for length in LENGTHS_S if -(-seconds // length) <= MAX_STRETCHES), LENGTHS_S[-1])


def stretches_of(seconds: Seconds, length: int) -> list[Stretch]:
    """``seconds`` in stretches of ``length``."""
    begin = np.arange(0, len(seconds.mos), length)
    edge = seconds.depth_ms + np.nan_to_num(seconds.base_ms)
    columns = (
        np.add.reduceat(seconds.sent, begin),
        np.add.reduceat(seconds.lost, begin),
        np.add.reduceat(seconds.late, begin),
        np.minimum.reduceat(seconds.mos, begin),
        np.minimum.reduceat(edge, begin),
        np.maximum.reduceat(edge, begin),
    )
    return [Stretch(*row) for row in zip(*(column.tolist() for column in columns), strict=True)]


def points_of(trace: Trace, played: Playout) -> list[PacketPoint]:
    """Where each packet went; of more than ``MAX_POINTS`` those that ``thinned`` keeps."""
    pdv, late = streams.pdv_ms(trace), played.late
    at = (trace.sent_us - trace.sent_us[0]) / 1000
    if len(trace) > MAX_POINTS:
        keep = thinned(pdv, late, MAX_POINTS)
        pdv, late, at = pdv[keep], late[keep], at[keep]
    return [
        PacketPoint(at_ms, None, "lost") if ms != ms else PacketPoint(at_ms, ms, "late" if is_late else "in time")
        for at_ms, ms, is_late in zip(at.tolist(), pdv.tolist(), late.tolist(), strict=True)
    ]


def thinned(pdv: Floats, late: Flags, points: int) -> Ints:
    """Indices, ``points`` at most, that keep each stretch's extremes and one of each fate in it: the first of several.

    ``pdv`` and ``late`` have shape (packets,); NaN is a packet that never came.
    """
    stretches = points // 4
    sizes = np.full(stretches, len(pdv) // stretches)
    sizes[: len(pdv) % stretches] += 1
    begins = np.cumsum(sizes) - sizes
    missing = np.isnan(pdv)

    def first_in_each(marked: Flags) -> Ints:
        found = np.flatnonzero(marked)
        at = np.searchsorted(found, begins)
        found = np.append(found, len(pdv))[at]
        return np.asarray(found[found < begins + sizes])

    def extremes(pick: np.ufunc, none: float) -> Ints:
        values = np.where(missing, none, pdv)
        return first_in_each(~missing & (values == np.repeat(pick.reduceat(values, begins), sizes)))

    kept = (first_in_each(missing), extremes(np.maximum, -np.inf), extremes(np.minimum, np.inf), first_in_each(late))
    return np.unique(np.concatenate(kept))
