"""Carrying plans out: what is due begins, the next step follows the last, and what cannot go on ends with the reason.

A series is one start of a plan:

    waiting ── first step placed ──► running ── last step over ──► done
       │                               ├── a run failed ─────────► failed
       │                               └── stopped, or a rule ───► stopped
       └── a rule, or nobody there for ten minutes ──────────────► missed

``carry_out`` looks at the records and moves them on; it holds nothing in memory, so a clerk that was killed goes on
where it was. Called often, and again when a run's record has come in.
"""

from __future__ import annotations

import logging
import sqlite3
from datetime import timedelta
from zoneinfo import ZoneInfo

from tarnfell.core.codecs import CodecError
from tarnfell.core.rates import PlanError
from tarnfell.core.schedule import Span, from_us, next_start, quiet_span, to_us
from tarnfell.core.video import VideoError
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.plans import Plan, Series
from tarnfell.store.runs import Run, RunSpec
from tarnfell.work.placing.fill_plans import begin_fills
from tarnfell.work.placing.heavy_loss import STOPPED_BY_LOSS
from tarnfell.work.placing.rules import PASSES, against, quiet_hours
from tarnfell.work.watch.routines import begin_routines

GRACE_US = 10 * 60 * 1_000_000
"""How late a series may begin before it counts as missed."""

log = logging.getLogger(__name__)


def carry_out(db: sqlite3.Connection, at_us: int | None = None) -> None:
    """Begin what is due, give up jobs whose probe is gone, and place the next step of what is under way."""
    at = at_us or now_us()
    if plan_store.due_plans(db, at):
        with writing(db):
            # Read again: another turn may have begun them a moment ago.
            for plan in plan_store.due_plans(db, at):
                _begin(db, plan, at)
    begin_fills(db, at)
    begin_routines(db, at)
    silent = job_store.silent_jobs(db)
    if silent:
        with writing(db):
            job_store.give_up_silent(db, silent)
    for series in plan_store.open_series(db):
        try:
            with writing(db):
                _advance(db, plan_store.series_by_id(db, series.id), at)
        except Exception:  # what is wrong with one site must not hold up the others
            log.exception("series %s", series.id)


def _begin(db: sqlite3.Connection, plan: Plan, at: int) -> None:
    """A series for the start that is due, and the plan's next start."""
    due = plan.next_us
    assert due is not None
    assert plan.start_us is not None
    late = at - due > GRACE_US
    site = site_store.site_by_id(db, plan.site_id)
    zone = ZoneInfo(site.time_zone)
    span = Span(from_us(due), from_us(due) + timedelta(seconds=plan.shape.length_s))
    if plan.rule and quiet_span(span, quiet_hours(site), zone):
        pass  # a recurrence leaves out the hours without load
    elif late:
        plan_store.add_series(db, plan, due, "missed", "The server was not running at that time.")
    else:
        plan_store.add_series(db, plan, due)
    after = from_us(at if late else due)
    following = next_start(from_us(plan.start_us), plan.rule, zone, after) if plan.rule else None
    state = "scheduled" if following else "ended"
    plan_store.change_plan(db, plan.id, state=state, next_us=to_us(following) if following else None)


def _advance(db: sqlite3.Connection, series: Series, at: int) -> None:
    """One step further, if nothing is under way and nothing stands against it."""
    if series.state not in ("waiting", "running"):
        return
    site = site_store.site_by_id(db, series.site_id)
    plan = plan_store.plan_by_id(db, series.plan_id)
    under_way = run_store.open_runs(db, site.id)
    own = [run for run in under_way if run.series_id == series.id]
    if own:
        if own[0].state == "waiting" and at - own[0].created_us > GRACE_US:
            job_store.ask_stop(db, own[0].id, waiting="Never begun: the probe was offline. It is a gap, not evidence.")
        return
    runs = run_store.runs_of_series(db, series.id)
    if runs and _ends_here(db, series, runs[-1]):
        return
    steps = [(number, calls) for number in range(1, plan.shape.rounds + 1) for calls in plan.shape.steps]
    if len(runs) == len(steps):
        plan_store.end_series(db, series.id, "done", "")
        return
    round_number, calls = steps[len(runs)]
    spec = _spec(plan, series, round_number, calls)
    probe, far_end = probe_store.probe_by_id(db, plan.probe_id), place_store.far_end_by_id(db, plan.far_end_id)
    try:
        reason = against(db, site, probe, far_end, spec, from_us(at))
    except (CodecError, VideoError, PlanError) as error:
        # What the plan asks for was possible when it was made.
        plan_store.end_series(db, series.id, "failed", str(error))
        return
    if reason is None:
        if not runs:
            plan_store.begin_series(db, series.id)
        run_store.add_run(db, spec, f"Step of the plan “{plan.name}”.")
    elif reason.code not in PASSES or at - max(series.due_us, runs[-1].ended_us or 0 if runs else 0) > GRACE_US:
        plan_store.end_series(db, series.id, "stopped" if runs else "missed", reason.afterwards)


def _ends_here(db: sqlite3.Connection, series: Series, last: Run) -> bool:
    """Whether the last run ended the series before its last step."""
    if last.state == "failed":
        plan_store.end_series(db, series.id, "failed", last.failure or "A run failed.")
    elif last.stop_reason is not None:
        words = STOPPED_BY_LOSS if last.stop_reason == "heavy-loss" else "It was stopped."
        plan_store.end_series(db, series.id, "stopped", words)
    else:
        return False
    return True


def _spec(plan: Plan, series: Series, round_number: int, calls: int) -> RunSpec:
    return RunSpec(
        site_id=plan.site_id,
        probe_id=plan.probe_id,
        far_end_id=plan.far_end_id,
        codec=plan.codec,
        ptime_ms=plan.ptime_ms,
        calls=calls,
        seconds=plan.shape.call_s,
        dscp=plan.dscp,
        direction=plan.direction,
        video=plan.video,
        asked_by=plan.made_by,
        series_id=series.id,
        round=round_number,
    )
