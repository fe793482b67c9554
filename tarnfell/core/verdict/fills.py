"""Filled lines as evidence: behaviour under load, and the causes that filling shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from tarnfell.core.causes import DIRECTIONS, Direction
from tarnfell.core.line.values import LineCause
from tarnfell.core.verdict.causes import Cause, owner
from tarnfell.core.verdict.facts import Brief

KEPT_PCT = 90.0
"""From so many packets on that arrive marked, what the marked call had is what marked phones would have."""


@dataclass(frozen=True, kw_only=True)
class FillFact:
    """One direction of one filled line."""

    fill_id: int
    direction: Direction
    day: str
    minute: float
    busy: bool
    """Within the site's business hours."""
    full: bool
    """The line was seen to be full; otherwise it says nothing of a full one."""
    idle_mos: float | None
    mos: float | None
    mos_marked: float | None
    kept_pct: float | None
    causes: tuple[LineCause, ...] = ()
    probe_id: int = 0
    far_end_id: int = 0

    @property
    def under_load(self) -> float | None:
        """The better of what an unmarked call had and a marked one, where marking arrives; None where nothing tells."""
        if not self.full or self.mos is None:
            return None
        arrives = self.kept_pct is not None and self.kept_pct >= KEPT_PCT
        return max(self.mos, self.mos_marked) if arrives and self.mos_marked is not None else self.mos


@dataclass(frozen=True)
class UnderLoad:
    """What the fills of a site come to: of each direction the worst that a call had beside a full line."""

    worst: dict[Direction, float]
    """Directions that were never full are not in it."""
    fills: int

    @property
    def whole(self) -> bool:
        return len(self.worst) == len(DIRECTIONS)

    @property
    def least(self) -> float | None:
        return min(self.worst.values(), default=None)


def under_load(facts: Sequence[FillFact]) -> UnderLoad:
    worst: dict[Direction, float] = {}
    for fact in facts:
        if fact.under_load is not None:
            worst[fact.direction] = min(fact.under_load, worst.get(fact.direction, 5.0))
    return UnderLoad(worst, len({fact.fill_id for fact in facts if fact.under_load is not None}))


def causes_of_fills(facts: Sequence[FillFact], known: Sequence[Cause], brief: Brief) -> list[Cause]:
    """What the newest fill between each two ends shows, joined to what calls have shown of the same."""
    newest: dict[tuple[int, int, Direction], FillFact] = {}
    for fact in facts:
        ends = (fact.probe_id, fact.far_end_id, fact.direction)
        if ends not in newest or fact.fill_id > newest[ends].fill_id:
            newest[ends] = fact
    joined = list(known)
    for fact in newest.values():
        for told in fact.causes:
            same = next((i for i, c in enumerate(joined) if (c.key, c.direction) == (told.key, told.direction)), None)
            filled = _cause(told, facts, brief)
            if same is None:
                joined.append(filled)
            elif told.says not in joined[same].says:
                shown = joined[same]
                joined[same] = replace(
                    shown,
                    says=(*shown.says, told.says),
                    leg=told.leg if shown.leg == "unknown" else shown.leg,
                    cost=shown.cost | filled.cost,
                )
    return joined


def _cause(told: LineCause, facts: Sequence[FillFact], brief: Brief) -> Cause:
    way = [fact for fact in facts if fact.direction == told.direction]
    showing = [fact for fact in way if any(c.key == told.key for c in fact.causes)]
    lost = max((brief.target_mos - (fact.under_load or brief.target_mos) for fact in showing), default=0.0)
    return Cause(
        told.key,
        told.leg,
        told.direction,
        told.title,
        (told.says,),
        told.alternatives,
        told.remedy,
        owner(brief, told.leg),
        gain="What it buys shows when the line is filled again afterwards.",
        calls_hit=len(showing),
        calls=len(way),
        cost={"load": lost} if lost > 0 else {},
        of="line fills",
    )
