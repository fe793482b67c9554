"""In which direction packets queue, by the time stamps of a far end, however wrong its clock is.

Of a round trip that grows, a queue on the way up makes the way up grow by as much, one on the way down leaves it as it
was. Two clocks that run apart add a straight line to it, which is taken out.
"""

from __future__ import annotations

import numpy as np

from tarnfell.core.causes import Way
from tarnfell.core.days.rounds import Floats

LEAST_ROUNDS = 10
LEAST_SWING_MS = 5.0
"""Standard deviation of the round trip: less does not tell directions apart."""
MOSTLY = 0.75
"""Of what the round trip grows by."""


def direction_of(rtt_ms: Floats, up_ms: Floats) -> Way | None:
    """Of neighbouring rounds, shape (rounds,), NaN where not known. None where it cannot be told."""
    known = ~(np.isnan(rtt_ms) | np.isnan(up_ms))
    rtt, up = rtt_ms[known], up_ms[known]
    if len(rtt) < LEAST_ROUNDS or float(rtt.std()) < LEAST_SWING_MS:
        return None
    at = np.nonzero(known)[0] / len(known)
    terms = np.column_stack([np.ones(len(rtt)), at, rtt])
    share = float(np.linalg.lstsq(terms, up, rcond=None)[0][2])
    if share >= MOSTLY:
        return "up"
    return "down" if share <= 1 - MOSTLY else "both"
