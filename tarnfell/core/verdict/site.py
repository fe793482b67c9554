"""A whole site, judged: everything that follows from its facts and its brief."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from tarnfell.core.daysheet import Day, day_sheet
from tarnfell.core.path import Leg, leg
from tarnfell.core.verdict.capacity import capacity_of
from tarnfell.core.verdict.causes import Cause, Shown
from tarnfell.core.verdict.coverage import CoveredHour, coverage_of
from tarnfell.core.verdict.diagnosis import evidence_short, find_causes, spoiled
from tarnfell.core.verdict.facts import MIN_CALL_S, Brief, CallFact, VideoFact
from tarnfell.core.verdict.fills import FillFact, UnderLoad, causes_of_fills, under_load
from tarnfell.core.verdict.moments import Share, Watched, share_of
from tarnfell.core.verdict.readings import CallReading, KeptBound, Reading, by_call, kept_bounds, read
from tarnfell.core.verdict.requirements import requirements_of, shares_of
from tarnfell.core.verdict.score import Verdict, Word, range_of, score_dimensions, word_of
from tarnfell.core.verdict.told import Told, closed, join


@dataclass(frozen=True)
class LeftOut:
    """Calls that were placed and count into nothing, or only into one direction, and why."""

    what: str
    calls: int


@dataclass(frozen=True)
class Aside:
    """What the evidence leaves out before it comes here, in calls; told, never hidden."""

    before_remedy: int = 0
    remedy: str = ""
    failed: int = 0
    """Calls of runs that failed for a reason that says nothing of the network."""
    imported: int = 0
    """Imported files, which are shown and not counted."""
    browsers: int = 0
    """Calls that browsers placed, where these are shown and not counted."""


@dataclass(frozen=True)
class Evaluation:
    """All that follows, and no longer the facts that it follows from: a value small enough to be kept and fetched."""

    brief: Brief
    causes: list[Cause]
    """Of the network first, then what is not its fault."""
    verdict: Verdict
    left_out: tuple[LeftOut, ...]
    word_with_all: Word | None
    """The verdict had everything been counted, where it would be another; else None."""
    video: Share
    """Video streams that were good both ways."""
    sheet: list[Day]
    coverage: list[CoveredHour]
    kept: tuple[KeptBound, ...]
    """How the bounds that the brief asks beside the MOS were kept."""
    legs: tuple[Leg, Leg] | None
    """Up and down; None where no direction of a call counts."""

    @property
    def faults(self) -> list[Cause]:
        return [c for c in self.causes if c.network]


NOTHING_ASIDE = Aside()


def evaluate_site(
    facts: Sequence[CallFact],
    brief: Brief,
    video: Sequence[VideoFact] = (),
    aside: Aside = NOTHING_ASIDE,
    fills: Sequence[FillFact] = (),
    told: Sequence[Told] = (),
    watches: Sequence[Watched] = (),
) -> Evaluation:
    """Readings, causes and verdict of all facts of a site; ``told`` are what its watches and its check say."""
    readings = read(facts, brief)
    calls = by_call(readings)
    causes = causes_of_fills(fills, find_causes(readings, calls, video, brief), brief)
    joined = join(causes, told, readings, calls, brief)
    causes = [cause.settled() if isinstance(cause, Shown) else cause for cause in joined]
    load = under_load(fills)
    verdict = _judge(readings, calls, causes, brief, video, load, told, watches)
    left_out = _left_out(facts, aside)
    other: Word | None = None
    if any(not _counts(f) for f in facts):
        everything = read([_counted(f) for f in facts], brief)
        streams = [replace(v, tainted=False, one_way=False) for v in video]
        word = _judge(everything, by_call(everything), (), brief, streams, load, told, watches).word
        other = word if word != verdict.word else None
    return Evaluation(
        brief=brief,
        causes=_costliest_first(causes, verdict) + spoiled(facts) + evidence_short(verdict, verdict.calls),
        verdict=verdict,
        left_out=left_out,
        word_with_all=other,
        video=share_of(shares_of([], video, brief).streams),
        sheet=day_sheet(readings),
        coverage=coverage_of(calls),
        kept=kept_bounds(readings, brief),
        legs=(leg(readings, "up"), leg(readings, "down")) if readings else None,
    )


def _costliest_first(causes: Sequence[Cause], verdict: Verdict) -> list[Cause]:
    """By the points that each took: what a cause costs is of other units in each dimension."""
    return sorted(causes, key=lambda cause: -verdict.taken_by(cause))


def _judge(
    readings: list[Reading],
    calls: Sequence[CallReading],
    causes: Sequence[Cause],
    brief: Brief,
    video: Sequence[VideoFact],
    load: UnderLoad,
    told: Sequence[Told],
    watches: Sequence[Watched],
) -> Verdict:
    shares = shares_of(calls, video, brief, watches)
    # An idle network carries what a busy one does not.
    capacity = capacity_of((c for c in calls if c.busy), brief.required_share_pct)
    days = len({moment[0] for c in calls for moment in c.moments})
    busy_hours = len({(day, cell // 6) for c in calls if c.busy for day, cell in c.moments})
    missing = _missing(days, busy_hours, len(shares.busy), brief)
    requirements = requirements_of(readings, calls, shares, capacity, brief, not missing, load, closed(told))
    dimensions = score_dimensions(readings, calls, shares, capacity, causes, brief, load, closed(told))
    low, high = range_of(dimensions, requirements)
    word = word_of(requirements)
    return Verdict(
        word=word,
        provisional=bool(missing) and word != "not shown yet",
        low=low,
        high=high,
        uncapped_low=sum(d.weight * d.low for d in dimensions) / 100,
        uncapped_high=sum(d.weight * d.high for d in dimensions) / 100,
        reasons=tuple(
            f"{r.title}: {'not met' if r.state == 'shown not' else 'open'}. {r.says}"
            for state in ("shown not", "open")
            for r in requirements
            if r.state == state
        ),
        missing=missing,
        requirements=requirements,
        dimensions=dimensions,
        capacity=capacity,
        share=share_of(shares.busy),
        days=days,
        busy_hours=busy_hours,
        moments=len(shares.busy),
        calls=len(calls),
    )


def _missing(days: int, busy_hours: int, moments: int, brief: Brief) -> tuple[str, ...]:
    return tuple(
        f"{have} of {need} {one if need == 1 else many}"
        for have, need, one, many in (
            (days, brief.required_days, "day", "days"),
            (busy_hours, brief.required_busy_hours, "busy hour", "busy hours"),
            (moments, brief.required_moments, "moment of business hours", "moments of business hours"),
        )
        if have < need
    )


def _counts(fact: CallFact) -> bool:
    return not fact.tainted and not fact.one_way and (fact.outcome != "whole" or fact.seconds >= MIN_CALL_S)


def _counted(fact: CallFact) -> CallFact:
    return replace(fact, tainted=False, one_way=False, seconds=max(fact.seconds, MIN_CALL_S))


def _left_out(facts: Sequence[CallFact], aside: Aside) -> tuple[LeftOut, ...]:
    """Every kind with its number, the kinds that hold none left away."""
    short = {f.call_id for f in facts if not f.tainted and f.outcome == "whole" and f.seconds < MIN_CALL_S}
    groups = (
        ("spoiled by an end’s own machine or clock", len({f.call_id for f in facts if f.tainted})),
        ("in one direction only: they count for causes, not as calls", len({f.call_id for f in facts if f.one_way})),
        (f"shorter than {MIN_CALL_S:g} s", len(short)),
        ("of runs that failed for a reason that says nothing of the network", aside.failed),
        (f"from before the remedy{': ' + aside.remedy if aside.remedy else ''}", aside.before_remedy),
        ("in imported files: shown, not counted", aside.imported),
        ("from browsers: shown, not counted", aside.browsers),
    )
    return tuple(LeftOut(what, calls) for what, calls in groups if calls)
