"""What the consultant decided of causes: dismissed with a reason, or with a note. The verdict is the evidence's own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.site import Evaluation


@dataclass(frozen=True)
class Decision:
    key: CauseKey
    leg: LegName
    direction: Way
    dismissed: bool
    words: str
    """Why, or the note."""
    by: str
    """Whose it is; empty where nobody is known any more."""

    def is_of(self, cause: Cause) -> bool:
        return (self.key, self.leg, self.direction) == cause.named


@dataclass(frozen=True)
class Dismissed:
    cause: Cause
    words: str
    by: str


@dataclass(frozen=True)
class Decided:
    """An evaluation as it is told: its causes without those that were dismissed."""

    evaluation: Evaluation
    dismissed: tuple[Dismissed, ...]


def decided(evaluation: Evaluation, decisions: Sequence[Decision]) -> Decided:
    """A decision holds for the cause of that key, leg and direction, and for no other that comes later."""
    kept: list[Cause] = []
    dismissed: list[Dismissed] = []
    for cause in evaluation.causes:
        own = next((one for one in decisions if one.is_of(cause)), None)
        if own is not None and own.dismissed:
            dismissed.append(Dismissed(cause, own.words, own.by))
        else:
            kept.append(replace(cause, note=own.words) if own is not None else cause)
    return Decided(replace(evaluation, causes=kept), tuple(dismissed))
