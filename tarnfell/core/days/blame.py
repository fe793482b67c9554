"""On which leg it was: what neighbours along the path missed in the same rounds.

A router may be slow to answer for itself, so through a place went at least what reached any place beyond it: delay up
to a place is the least among it and all beyond, each less what it always has; loss is weighed in ``loss_legs``. A leg
has what comes on between its ends. Where an end did not tell, two legs cannot be told apart, and that is the answer.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from tarnfell.core.causes import LegName
from tarnfell.core.days.loss_legs import MOST_PARTS, OWN_ASIDE, OWN_ON_PATH, Missed, Weighed, evidence_share, weigh
from tarnfell.core.days.rounds import Flags, Floats, Rounds
from tarnfell.core.legs import DEPTH

Kind = Literal["outage", "loss", "delay"]
OUTAGE = 0.9
"""Of the rounds; a few answers slip through at its ends."""
MOST_EXCESS_MS = 1000.0
"""One answer that was seconds late must not speak for all."""
REPLICATES = 200
SURE = 0.6
"""Below it nobody is blamed."""
MOST_CERTAINTY = 0.99


@dataclass(frozen=True)
class Blame:
    leg: LegName
    certainty: float
    """How likely the leg has most of it; 0…0.99."""
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


def blame(answers: Answers, end: Flags, part: slice, kind: Kind, lost: Flags, chance: np.random.Generator) -> Blame:
    """``end`` are the places that the judged way ends at, ``lost`` those of the rounds asked of it that it lost. Draws
    with ``chance``, which is the caller's to seed."""
    if all(answers.mute):
        return Blame("unknown", 0.0, {})
    names, up_to = _legs(answers, end)
    if kind == "delay":
        shares, most = _by_delay(answers, end, up_to, part, chance)
    else:
        weighed = _by_loss(answers, end, up_to, part, lost)
        shares, most = weighed.share, weighed.most
    if shares.sum() <= 0:
        return Blame("unknown", 0.0, {})
    seen = int(shares.argmax())
    certainty = min(MOST_CERTAINTY, float(most[seen]))
    leg = names[seen] if certainty >= SURE and shares[seen] >= 0.5 else "unknown"
    return Blame(leg, certainty, dict(zip(names, shares.tolist(), strict=True)))


def _legs(answers: Answers, end: Flags) -> tuple[list[LegName], list[list[int]]]:
    """Those that can be told apart, and the places that tell what came about up to the far side of each but the
    last."""
    roles = [place.role for place in answers.rounds.places]
    ends_at = DEPTH[roles[int(np.nonzero(end)[0][0])]]
    gateway, edge, aside = (
        [i for i, role in enumerate(roles) if DEPTH[role] == depth and not answers.mute[i] and not end[i]]
        for depth in (0, 1, 2)
    )
    names: list[LegName] = ["inside"] if gateway or ends_at == 0 else []
    up_to = [gateway] if gateway else []
    if ends_at == 0:
        return names, up_to
    line: LegName = "line" if gateway else "inside or line"
    if ends_at == 1:
        return [*names, line], up_to
    if edge:
        return [*names, line, "beyond"], [*up_to, [*edge, *aside]]
    # What all addresses beyond have in common may be the line's, or lie just beyond its edge.
    return ([*names, "unknown", "beyond"], [*up_to, aside]) if aside else ([*names, "unknown"], up_to)


def _by_loss(answers: Answers, end: Flags, up_to: list[list[int]], part: slice, lost: Flags) -> Weighed:
    roles = [place.role for place in answers.rounds.places]
    counts_for = evidence_share(lost)
    sent = answers.rounds.sent[:, part].sum(axis=1)
    gone = answers.rounds.lost[:, part].sum(axis=1)

    def place(i: int) -> Missed:
        own = OWN_ASIDE if DEPTH[roles[i]] == 2 else OWN_ON_PATH
        return Missed(float(gone[i]), float(sent[i]), float(answers.usual_lost[i]), own).times(counts_for)

    way = Missed(float(lost.sum()), len(lost), float(np.prod(answers.usual_lost[end]))).times(counts_for)
    return weigh(way, [[place(i) for i in places if sent[i]] for places in up_to])


def _by_delay(
    answers: Answers, end: Flags, up_to: list[list[int]], part: slice, chance: np.random.Generator
) -> tuple[Floats, Floats]:
    """Share of each leg in the end's mean excess, and how often it has most of it when rounds are drawn anew
    (bootstrap).

    A place is held against the end in the rounds that both answered: a full queue drops what would have waited
    longest, so the mean of what a place answered tells less of it than there was."""
    excess = np.clip(answers.excess_ms[:, part], 0, MOST_EXCESS_MS)
    at_end = np.fmin.reduce(excess[end], axis=0)
    usual_end = float(answers.usual_ms[end].min())
    weights = _drawn(len(at_end), chance)
    whole = _mean_over(weights, at_end, ~np.isnan(at_end), usual_end)
    reached = [np.zeros_like(whole)]
    for places in up_to:
        least = whole
        for i in places:
            both = ~np.isnan(excess[i]) & ~np.isnan(at_end)
            own, of_end = (
                _mean_over(weights, values, both, usual)
                for values, usual in ((excess[i], float(answers.usual_ms[i])), (at_end, usual_end))
            )
            with np.errstate(invalid="ignore", divide="ignore"):
                least = np.fmin(least, whole * own / of_end)  # where the end had none, the place tells nothing
        reached.append(np.maximum(least, reached[-1]))
    legs = np.diff(np.array([*reached, whole]), axis=0)
    most = legs[:, 1:].argmax(axis=0)
    shares = legs[:, 0] / whole[0] if whole[0] > 0 else np.zeros(len(legs))
    return shares, np.array([np.mean(most == leg) for leg in range(len(legs))])


def _drawn(rounds: int, chance: np.random.Generator) -> Floats:
    """How often each part of a stretch was drawn; the first is the stretch as it was. Shape (draws, rounds)."""
    size = -(-rounds // MOST_PARTS)  # neighbours meet the same queue
    parts = -(-rounds // size)
    draws = chance.multinomial(parts, np.full(parts, 1 / parts), REPLICATES)
    return np.repeat(np.vstack([np.ones(parts), draws]), size, axis=1)[:, :rounds]


def _mean_over(weights: Floats, values: Floats, told: Flags, usual: float) -> Floats:
    """What comes on to the usual, of the rounds that tell; 0 of a draw in which none does. Shape (draws,)."""
    count = weights @ told
    return np.maximum(weights @ np.where(told, values, 0.0) / np.maximum(1, count) - usual, 0.0) * (count > 0)
