"""What would worry somebody who saw it, and is no fault: places that answer badly for themselves and pass all on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tarnfell.core.causes import CauseKey
from tarnfell.core.days.findings import name_of
from tarnfell.core.days.rounds import Flags, Rounds
from tarnfell.core.legs import DEPTH, SLOW_LOSS_PCT, SLOW_MS

ERRORS = 4.0
"""Standard errors by which a share of lost samples must differ, beside its least size, to be more than chance."""


@dataclass(frozen=True)
class NotFault:
    key: CauseKey
    says: str


def not_faults_of(rounds: Rounds, outside: Flags) -> list[NotFault]:
    """Of places that answer worse for themselves than what lies beyond them, outside all episodes."""
    told: list[NotFault] = []
    heard = ~np.all(np.isnan(rounds.rtt_ms), axis=1)
    depth = [DEPTH[place.role] for place in rounds.places]
    for i, place in enumerate(rounds.places):
        if place.role == "far-end":
            continue
        beyond = [j for j in range(len(depth)) if j != i and depth[j] >= depth[i] and heard[j]]
        if not beyond:
            continue
        asked = int(rounds.sent[i].sum())
        if not heard[i]:
            says = f"answered none of {asked} samples, while what lies beyond did: it is set not to."
            told.append(NotFault("echo-muted", f"{_begin(name_of(place))} {says}"))
            continue
        own_p95, own_loss = _figures(rounds, i, outside)
        others = [_figures(rounds, j, outside) for j in beyond]
        p95, loss = min(other[0] for other in others), min(other[1] for other in others)
        by_chance = ERRORS * 100 * float(np.sqrt(max(own_loss, loss) / 100 / max(1, int(outside.sum()))))
        if own_p95 - p95 > SLOW_MS or own_loss - loss > SLOW_LOSS_PCT + by_chance:
            says = (
                f"{_begin(name_of(place))} answers slowly for itself ({own_p95:.0f} ms 95th percentile, "
                f"{own_loss:.1f} % unanswered) but passes packets on: beyond it {p95:.0f} ms and {loss:.1f} %."
            )
            told.append(NotFault("hop-slow", says))
    return told


def _figures(rounds: Rounds, place: int, outside: Flags) -> tuple[float, float]:
    """95th percentile, ms, and loss, percent."""
    sent = rounds.sent[place] & outside
    rtt = rounds.rtt_ms[place][sent]
    known = rtt[~np.isnan(rtt)]
    return (
        float(np.percentile(known, 95)) if len(known) else np.inf,
        100 * (len(rtt) - len(known)) / max(1, len(rtt)),
    )


def _begin(words: str) -> str:
    return words[0].upper() + words[1:]
