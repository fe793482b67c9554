"""How much evidence proves a share, and how many calls a site needs at once."""

from __future__ import annotations

import math

CONFIDENCE = 0.95
"""Of every interval, both ends together."""


MOMENT_S = 600
"""A ten-minute cell of the day: calls within one meet the same moment of the network."""


def moments_to_show(required_pct: float, confidence: float = CONFIDENCE) -> int:
    """Moments without a bad call among them before "at least ``required_pct``" is shown (Clopper and Pearson 1934).

    Raises ValueError for a share of nothing or of all.
    """
    if not 0 < required_pct < 100:
        raise ValueError("The required share lies between 0 and 100 %.")
    return math.ceil(math.log((1 - confidence) / 2) / math.log(required_pct / 100) - 1e-9)


def shown_by(moments: int, confidence: float = CONFIDENCE) -> float:
    """The share, in percent, that this many moments show if none holds a bad call."""
    return 100 * float(((1 - confidence) / 2) ** (1 / moments)) if moments else 0.0


def erlang_b(erlangs: float, circuits: int) -> float:
    """Share of call attempts blocked when ``erlangs`` are offered to ``circuits`` (ITU-T E.501, recursion form)."""
    blocked = 1.0
    for n in range(1, circuits + 1):
        blocked = erlangs * blocked / (n + erlangs * blocked)
    return blocked


def concurrent_calls(erlangs: float, accepted_blocking: float) -> int:
    """Fewest circuits that block no more than ``accepted_blocking`` (0…1)."""
    if erlangs < 0 or not 0 < accepted_blocking < 1:
        raise ValueError("Traffic must not be negative; accepted blocking lies between 0 and 1.")
    blocked, n = 1.0, 0
    while blocked > accepted_blocking:
        n += 1
        blocked = erlangs * blocked / (n + erlangs * blocked)
    return n
