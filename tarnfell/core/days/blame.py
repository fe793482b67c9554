"""On which leg it was: what neighbours along the path missed in the same rounds.

A router may be slow to answer for itself, so through a place went at least what reached any place beyond it: trouble
up to a place is the least among it and all beyond, each less what it always has. A leg has what comes on between its
ends. Where an end did not tell, two legs cannot be told apart, and that is the answer.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.causes import LegName
from tarnfell.core.days.rounds import Flags, Floats, Rounds
from tarnfell.core.legs import DEPTH

Kind = Literal["outage", "loss", "delay"]
OUTAGE = 0.9
"""Of the rounds; a few answers slip through at its ends."""
MOST_EXCESS_MS = 1000.0
"""One answer that was seconds late must not speak for all."""
REPLICATES = 200
MOST_PARTS = 60
"""Rounds of a long stretch are drawn in so many parts: neighbours meet the same queue."""
SURE = 0.6
"""Below it nobody is blamed."""
MOST_CERTAINTY = 0.99


@dataclass(frozen=True)
class Blame:
    leg: LegName
    certainty: float
    """How often the leg has most of it when rounds are drawn anew (bootstrap); 0…0.99."""
    shares: dict[LegName, float]
    """Of what the end missed; together 1. Those that could not be told apart stand as one."""


@dataclass(frozen=True)
class Answers:
    """What blame is read from. Shapes (places, rounds)."""

    rounds: Rounds
    excess_ms: Floats
    """Over the calm level; NaN where there is no answer."""
    mute: tuple[bool, ...]
    """Places that never answered: they tell nothing."""
    usual_lost: Floats
    usual_ms: Floats
    """Of each place outside all trouble: what it always has. Shape (places,)."""


def kind_of(lost: Flags, late: Flags) -> Kind:
    """Of the rounds at the end of the way."""
    if lost.mean() >= OUTAGE:
        return "outage"
    return "loss" if lost.sum() >= late.sum() else "delay"


def blame(answers: Answers, end: Flags, part: slice, kind: Kind, chance: np.random.Generator) -> Blame:
    """``end`` are the places that the judged way ends at. Draws with ``chance``, which is the caller's to seed."""
    sums, counts = _parts(answers, part, kind)
    draws = chance.multinomial(sums.shape[1], np.full(sums.shape[1], 1 / sums.shape[1]), REPLICATES)
    drawn = np.vstack([np.ones(sums.shape[1]), draws])  # the first is what was seen
    with np.errstate(invalid="ignore", divide="ignore"):
        values = (drawn @ sums.T) / (drawn @ counts.T)
    usual = answers.usual_ms if kind == "delay" else answers.usual_lost
    more = np.maximum(values - usual, 0.0) / (1.0 if kind == "delay" else np.maximum(1e-6, 1 - usual))
    shares = _shares(answers, end, more)
    names = list(shares)
    table = np.array([shares[name] for name in names])
    whole = table.sum(axis=0)
    if whole[0] <= 0:
        return Blame("unknown", 0.0, {})
    most = table.argmax(axis=0)
    seen = int(most[0])
    certainty = min(MOST_CERTAINTY, float(np.mean(most[1:] == seen)))
    told = {name: float(share) for name, share in zip(names, table[:, 0] / whole[0], strict=True)}
    leg = names[seen] if certainty >= SURE and told[names[seen]] >= 0.5 else "unknown"
    return Blame(leg, certainty, told)


def _parts(answers: Answers, part: slice, kind: Kind) -> tuple[Floats, Floats]:
    """Sums of what counts and numbers of samples, of neighbouring rounds together: shape (places, parts)."""
    sent = answers.rounds.sent[:, part]
    if kind == "delay":
        excess = answers.excess_ms[:, part]
        told = ~np.isnan(excess)
        value = np.where(told, np.clip(excess, 0, MOST_EXCESS_MS), 0.0)
    else:
        told, value = sent, (answers.rounds.lost[:, part]).astype(float)
    size = -(-sent.shape[1] // MOST_PARTS)
    starts = np.arange(0, sent.shape[1], size)
    return np.add.reduceat(value, starts, axis=1), np.add.reduceat(told.astype(float), starts, axis=1)


def _shares(answers: Answers, end: Flags, more: Floats) -> dict[LegName, NDArray[np.float64]]:
    """By leg, for each draw. ``more`` has shape (draws, places); NaN of a place that tells nothing in a draw."""
    tells = [not mute for mute in answers.mute]
    if not any(tells):
        return {"unknown": np.ones(len(more))}

    def least(chosen: Sequence[int]) -> Floats:
        columns = np.where(np.isnan(more[:, chosen]), np.inf, more[:, chosen])
        return np.asarray(columns.min(axis=1))

    at = {
        depth: [i for i, one in enumerate(answers.rounds.places) if tells[i] and DEPTH[one.role] == depth]
        for depth in (0, 1)
    }
    ends = np.nonzero(end)[0].tolist()
    beyond = [i for i, one in enumerate(answers.rounds.places) if tells[i] and DEPTH[one.role] == 2]
    whole = least(ends)
    whole = np.where(np.isinf(whole), 0.0, whole)
    ends_at = DEPTH[answers.rounds.places[ends[0]].role]
    # Up to the edge: the least of it and of all beyond, the way's own end among them.
    to_edge = np.minimum(whole, least([*at[1], *beyond]) if at[1] or beyond else whole)
    to_gateway = np.minimum(to_edge, least(at[0])) if at[0] else None
    if ends_at == 0:
        return {"inside": whole}
    if to_gateway is None and ends_at == 1:
        return {"inside or line": whole}
    if to_gateway is None:
        return {"inside or line": to_edge, "beyond": whole - to_edge} if at[1] else _without_edge(whole, to_edge, None)
    if ends_at == 1:
        return {"inside": to_gateway, "line": whole - to_gateway}
    if not at[1]:
        return _without_edge(whole, to_edge, to_gateway)
    return {"inside": to_gateway, "line": to_edge - to_gateway, "beyond": whole - to_edge}


def _without_edge(whole: Floats, common: Floats, to_gateway: Floats | None) -> dict[LegName, NDArray[np.float64]]:
    """No edge told: what all addresses beyond have in common may be the line's, or lie just beyond it."""
    inside = np.zeros_like(whole) if to_gateway is None else to_gateway
    shares: dict[LegName, NDArray[np.float64]] = {"unknown": common - inside, "beyond": whole - common}
    return shares if to_gateway is None else {"inside": inside, **shares}
