"""What the API shows of a site's evaluation."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta

from tarnfell.core.days.depths import PathDepth
from tarnfell.core.daysheet import DAYS, Day
from tarnfell.core.path import Leg, worse_direction
from tarnfell.core.verdict.capacity import Step
from tarnfell.core.verdict.causes import Cause, CauseName, Wording
from tarnfell.core.verdict.coverage import CoveredHour
from tarnfell.core.verdict.requirements import bounds_words
from tarnfell.core.verdict.site import Evaluation
from tarnfell.server.brief.models.engagements import EvidenceView, PathView, ShareView, StripHour, VerdictView
from tarnfell.server.judge.models.sites import (
    CapacityStep,
    CauseView,
    CoverageView,
    DaySheet,
    DaySheetDay,
    DimensionView,
    HourView,
    ImportedOnSheet,
    TakenView,
)
from tarnfell.store.places import FarEnd
from tarnfell.store.plans import Plan
from tarnfell.store.sites import Site
from tarnfell.work.evidence.evaluations import Evaluated
from tarnfell.work.placing.closing_plan import closing_plan


def verdict_view(evaluated: Evaluated) -> VerdictView:
    evaluation = evaluated.evaluation
    verdict = evaluation.verdict
    return VerdictView(
        word=verdict.word,
        provisional=verdict.provisional,
        low=verdict.low,
        high=verdict.high,
        reasons=list(verdict.reasons),
        missing=list(verdict.missing),
        word_with_all=evaluation.word_with_all,
        behind=evaluated.behind,
    )


def dimension_views(evaluation: Evaluation) -> list[DimensionView]:
    """Points were lost to causes that were dismissed all the same."""
    return [
        DimensionView(
            dimension=d.dimension,
            title=d.title,
            weight=d.weight,
            low=d.low,
            high=d.high,
            says=d.says,
            lost_points=d.lost_points,
            open_points=d.open_points,
            taken=[TakenView(anchor=_anchor(t.cause), title=t.title, points=t.points) for t in d.taken],
        )
        for d in evaluation.verdict.dimensions
    ]


def cause_views(evaluation: Evaluation) -> list[CauseView]:
    return [cause_view(c) for c in evaluation.causes]


def cause_view(cause: Cause) -> CauseView:
    return CauseView(
        anchor=_anchor(cause.named),
        key=cause.key,
        leg=cause.leg,
        direction=cause.direction,
        place=cause.place,
        title=cause.title,
        says=list(cause.says),
        alternatives=list(cause.alternatives),
        remedy=cause.remedy,
        who=cause.who,
        gain=cause.gain,
        calls_hit=cause.calls_hit,
        calls=cause.calls,
        of=cause.of,
        call_ids=list(cause.call_ids),
        stream_ids=list(cause.stream_ids),
        network=cause.network,
        note=cause.note,
        weight=cause.weight,
        as_found=cause.as_found or Wording(cause.title, cause.remedy, cause.who),
        decided=list(cause.decided),
    )


def _anchor(named: CauseName) -> str:
    return "-".join(("cause", *named)).replace(" ", "-")


def capacity_views(evaluation: Evaluation) -> list[CapacityStep]:
    return [capacity_step(step) for step in evaluation.verdict.capacity.steps]


def capacity_step(step: Step) -> CapacityStep:
    return CapacityStep(
        concurrent=step.concurrent,
        good=step.share.good,
        calls=step.share.calls,
        moments=step.share.moments,
        pct=step.share.pct,
        fitted_pct=step.fitted_pct,
        low_pct=step.low_pct,
        high_pct=step.high_pct,
        state=step.state,
        more_moments=step.more_moments,
    )


def share_view(evaluation: Evaluation) -> ShareView:
    share = evaluation.verdict.share
    return ShareView(**vars(share), says=bounds_words(share, evaluation.brief.required_share_pct))


def evidence_view(evaluation: Evaluation) -> EvidenceView:
    verdict, brief = evaluation.verdict, evaluation.brief
    return EvidenceView(
        days=verdict.days,
        required_days=brief.required_days,
        busy_hours=verdict.busy_hours,
        required_busy_hours=brief.required_busy_hours,
        left_out_calls=sum(one.calls for one in evaluation.left_out),
        calls=verdict.calls,
        moments=verdict.moments,
        required_moments=brief.required_moments,
    )


def coverage_view(evaluation: Evaluation, site: Site, plans: Sequence[Plan]) -> CoverageView:
    business = site.business.hours()
    seen = {(one.weekday, one.hour): one for one in evaluation.coverage}
    nothing = CoveredHour(0, 0, 0, 0, 0)
    return CoverageView(
        hours=[
            HourView(
                weekday=at[0],
                hour=at[1],
                business=at in business,
                days=seen.get(at, nothing).days,
                moments=seen.get(at, nothing).moments,
                most=seen.get(at, nothing).most,
            )
            for at in sorted(business | seen.keys())
        ],
        business=len(business),
        seen=len(business & seen.keys()),
        closing=None if site.archived_us is not None else closing_plan(site, evaluation, datetime.now(UTC), plans),
    )


def path_view(
    evaluation: Evaluation, test_point: str, far_end: FarEnd | None, watched: PathDepth | None
) -> PathView | None:
    """Painted by calls as a whole, and leg by leg by what is watched; None where there is neither."""
    if evaluation.legs is None and watched is None:
        return None
    nothing = Leg(calls=0, loss_pct=None, added_p95_ms=None, mos_p10=None)
    up, down = evaluation.legs or (nothing, nothing)
    return PathView(
        test_point=test_point,
        far_end=far_end.name if far_end else "far end",
        place=far_end.place if far_end else "",
        up=up,
        down=down,
        worst=worse_direction(up, down),
        watched=watched,
    )


def sheet_view(evaluation: Evaluation, site: Site, imported: list[ImportedOnSheet]) -> DaySheet:
    """The sheet and what is shown beside it; where nothing was watched, the days of that."""
    sheet = evaluation.sheet
    last = max((cell.day for one in imported for cell in one.cells), default=None)
    if not sheet and last:
        sheet = [Day((date.fromisoformat(last) - timedelta(days=i)).isoformat()) for i in reversed(range(DAYS))]
    days = [
        DaySheetDay(
            day=day.day,
            call_id=day.call_id,
            up_mos=day.up.mos,
            down_mos=day.down.mos,
            up_added_ms=day.up.added_ms,
            down_added_ms=day.down.added_ms,
            up_loss_pct=day.up.loss_pct,
            down_loss_pct=day.down.loss_pct,
        )
        for day in sheet
    ]
    return DaySheet(
        days=days,
        imported=imported,
        open_minute=site.open_minute,
        close_minute=site.close_minute,
        open_days=site.open_days,
    )


def strip_view(evaluation: Evaluation) -> list[StripHour]:
    """The worst call of each hour of the sheet's days."""
    return [
        StripHour(day=day.day, hour=hour, mos=day.worst_mos(hour * 6, hour * 6 + 6))
        for day in evaluation.sheet
        for hour in range(24)
    ]
