"""What each leg added in each stretch of time, from what its places answered: the rule of the real excess.

Trouble up to a place is no more than the least among it and all beyond it; a leg has the difference of its two ends.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.causes import LegName
from tarnfell.core.days.rounds import Flags, Floats, Ints
from tarnfell.core.legs import DEPTH, Role


@dataclass(frozen=True)
class LegStretches:
    """Shapes (stretches,); NaN where nothing was measured that tells of it."""

    leg: LegName
    added_ms: Floats
    """95th percentile of the round trip over the calm level."""
    loss_pct: Floats


def leg_stretches(roles: Sequence[Role], sent: Ints, lost: Ints, added_ms: Floats) -> list[LegStretches]:
    """Tables have shape (places, stretches); ``added_ms`` is NaN where a place did not answer.

    From the inside out. Two legs that no place between told apart are one.
    """
    answers = (sent > lost).any(axis=1)
    depth = np.array([DEPTH[role] for role in roles])
    loss = np.where(sent > 0, 100 * lost / np.maximum(sent, 1), np.nan)
    # What lost everything answered nothing that could have been late.
    added = np.where((sent > 0) & np.isnan(added_ms), np.inf, added_ms)
    heard = sorted({int(d) for d in depth[answers]})
    found = []
    before: tuple[Floats, Floats] | None = None
    for d in heard:
        chosen = answers & (depth >= d)
        through = _end_of_way(roles, added, chosen, d), _end_of_way(roles, loss, chosen, d)
        name = _name(d, heard)
        found.append(
            LegStretches(name, _more(through[0], before and before[0]), _more(through[1], before and before[1]))
        )
        before = through
    return found


def _end_of_way(roles: Sequence[Role], table: Floats, chosen: Flags, depth: int) -> Floats:
    """The least of the chosen places; of the last leg that of the far end, where there is one, and of no other."""
    if depth == 2:
        far = chosen & np.array([role == "far-end" for role in roles])
        chosen = far if far.any() else chosen
    values = np.where(np.isnan(table[chosen]), np.inf, table[chosen])
    measured = ~np.isnan(table[chosen]).all(axis=0)
    return np.where(measured, values.min(axis=0), np.nan)


def _more(now: Floats, before: Floats | None) -> Floats:
    with np.errstate(invalid="ignore"):
        more = now if before is None else now - np.where(np.isnan(before), 0.0, before)
        more = np.where(np.isinf(now), np.nan, more)
    return np.maximum(more, 0.0)


def told_apart(roles: Sequence[Role]) -> list[LegName]:
    """The legs that places of these roles, all of which answered, tell apart; from the inside out."""
    heard = sorted({DEPTH[role] for role in roles})
    return [_name(depth, heard) for depth in heard]


def _name(depth: int, heard: Sequence[int]) -> LegName:
    if depth == 0:
        return "inside"
    if depth == 1:
        return "line" if 0 in heard else "inside or line"
    return "beyond" if 1 in heard else "unknown"
