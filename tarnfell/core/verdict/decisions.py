"""What the consultant decided of causes: dismissed with a reason, put first or last, worded anew, or with a note.

The verdict is the evidence's own whatever is decided, and what the evidence said stands beside what is said instead.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.verdict.causes import Cause, CauseName, Weight, Wording
from tarnfell.core.verdict.score import Verdict
from tarnfell.core.verdict.site import Evaluation

_ORDER: dict[Weight, int] = {"first": 0, "": 1, "last": 2}


@dataclass(frozen=True)
class Decision:
    key: CauseKey
    leg: LegName
    direction: Way
    dismissed: bool
    words: str
    """Why, or the note."""
    by: str = ""
    """Whose it is; empty where nobody is known any more."""
    weight: Weight = ""
    title: str = ""
    """In place of the evidence's own, as are the two below; empty: as found."""
    remedy: str = ""
    who: str = ""

    @property
    def says_nothing(self) -> bool:
        """It takes back what was decided before."""
        return not (self.dismissed or self.words or self.weight or self.title or self.remedy or self.who)

    @property
    def named(self) -> CauseName:
        return self.key, self.leg, self.direction

    def put_to(self, cause: Cause) -> Cause:
        found = Wording(cause.title, cause.remedy, cause.who)
        told = Wording(self.title or found.title, self.remedy or found.remedy, self.who or found.who)
        return replace(
            cause, **vars(told), note=self.words, weight=self.weight, as_found=None if told == found else found
        )


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
    own = {one.named: one for one in decisions}
    kept: list[Cause] = []
    dismissed: list[Dismissed] = []
    for cause in evaluation.causes:
        decision = own.get(cause.named)
        if decision is None:
            kept.append(cause)
        elif decision.dismissed:
            dismissed.append(Dismissed(cause, decision.words, decision.by))
        else:
            kept.append(decision.put_to(cause))
    # What is not the network's fault stays behind what is; within one weight the evidence's own order stays.
    kept.sort(key=lambda cause: (not cause.network, _ORDER[cause.weight]))
    return Decided(replace(evaluation, causes=kept, verdict=_titled(evaluation.verdict, kept)), tuple(dismissed))


def _titled(verdict: Verdict, causes: Sequence[Cause]) -> Verdict:
    """A lost point is told by the heading that its cause has on the same page."""
    titles = {cause.named: cause.title for cause in causes if cause.as_found}
    if not titles:
        return verdict
    dimensions = tuple(
        replace(one, taken=tuple(replace(t, title=titles.get(t.cause, t.title)) for t in one.taken))
        for one in verdict.dimensions
    )
    return replace(verdict, dimensions=dimensions)
