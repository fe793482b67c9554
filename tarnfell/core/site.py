"""A whole site, judged: everything that follows from its facts and its brief."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from tarnfell.core.daysheet import Day, day_sheet
from tarnfell.core.evidence import Brief, CallFact, KeptBound, Reading, VideoFact, good_streams, kept_bounds, read
from tarnfell.core.findings import Finding, find
from tarnfell.core.path import Leg, leg
from tarnfell.core.stats import Share, wilson
from tarnfell.core.verdict import Verdict, judge_site


@dataclass(frozen=True)
class Evaluation:
    brief: Brief
    readings: list[Reading]
    findings: list[Finding]
    verdict: Verdict
    tainted_calls: int
    """Left out because the probe disturbed itself."""
    video: Share
    """Video streams that were good both ways."""

    @cached_property
    def sheet(self) -> list[Day]:
        return day_sheet(self.readings)

    @cached_property
    def kept(self) -> tuple[KeptBound, ...]:
        """How the bounds that the brief asks beside the MOS were kept."""
        return kept_bounds(self.readings, self.brief)

    @cached_property
    def legs(self) -> tuple[Leg, Leg]:
        """Up and down."""
        return leg(self.readings, "up"), leg(self.readings, "down")


def evaluate_site(facts: list[CallFact], brief: Brief, video: list[VideoFact] | None = None) -> Evaluation:
    """Readings, findings and verdict of all facts of a site."""
    video = video or []
    readings = read(facts, brief)
    findings = find(readings, video, brief)
    tainted = len({f.call_id for f in facts if f.tainted})
    return Evaluation(
        brief,
        readings,
        findings,
        judge_site(readings, findings, brief, video),
        tainted,
        wilson(*good_streams(video, brief)),
    )
