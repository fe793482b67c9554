"""Carrying plans out: what is due begins, the next step follows the last, and what cannot go on ends with the reason.

``tick`` looks at the records and moves them on; it holds nothing in memory, so a server that was killed goes on
where it was. It is called twice a second, and again when a run's record has come in.
"""

from __future__ import annotations

import itertools
import logging
import sqlite3
import threading
import time
from datetime import timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from tarnfell.core.schedule import Quiet, Span, from_us, next_start, quiet_span, to_us
from tarnfell.server.presence import is_online
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect, folder_of, now_us, writing
from tarnfell.store.plans import Plan, Series
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.ingest.again import judge_stale_run, read_stale_import

GRACE_US = 10 * 60 * 1_000_000
"""How late a series may begin before it counts as missed."""
TICK_S = 0.5
JUDGE_FOR_S = 0.3

HEAVY_LOSS_PCT = 30.0
HEAVY_LOSS_S = 10
HEAVY_EDGE_S = 2
STOPPED_BY_LOSS = (
    f"Stopped by itself: at least {HEAVY_LOSS_PCT:.0f} % of packets were missing for {HEAVY_LOSS_S} seconds. "
    "More of it would have hurt whoever works there."
)

log = logging.getLogger(__name__)


def keep_ticking(data: Path, stop: threading.Event) -> None:
    """Until ``stop``; a fault is logged and the next tick tries again."""
    while not stop.wait(TICK_S):
        try:
            db = connect(data)
            try:
                tick(db)
            finally:
                db.close()
        except Exception:  # the one loop that must not end, whatever one record holds
            log.exception("dispatch")


def tick(db: sqlite3.Connection, at_us: int | None = None) -> None:
    at = at_us or now_us()
    if plan_store.due_plans(db, at):
        with writing(db):
            # Read again: another tick may have begun them a moment ago.
            for plan in plan_store.due_plans(db, at):
                _begin(db, plan, at)
    silent = run_store.silent_runs(db)
    if silent:
        with writing(db):
            run_store.give_up_silent(db, silent)
    judge_stale(db)
    for series in plan_store.open_series(db):
        try:
            with writing(db):
                _advance(db, plan_store.series_by_id(db, series.id), at)
        except Exception:  # what is wrong with one site must not hold up the others
            log.exception("series %s", series.id)


def judge_stale(db: sqlite3.Connection, for_s: float = JUDGE_FOR_S) -> None:
    """Judge again what is known better now, for a moment at a time."""
    until, data = time.monotonic() + for_s, folder_of(db)
    while time.monotonic() < until and (judge_stale_run(db) or read_stale_import(db, data)):
        pass


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
            run_store.ask_stop(db, own[0], waiting="Never begun: the probe was offline. It is a gap, not evidence.")
        return
    runs = run_store.runs_of_series(db, series.id)
    if runs and _ends_here(db, series, runs[-1]):
        return
    steps = [(number, calls) for number in range(1, plan.shape.rounds + 1) for calls in plan.shape.steps]
    if len(runs) == len(steps):
        plan_store.end_series(db, series.id, "done", "")
        return
    against = _what_stands_against(db, site, plan, under_way, at)
    if against is None:
        round_number, calls = steps[len(runs)]
        if not runs:
            plan_store.begin_series(db, series.id)
        _place(db, plan, series, round_number, calls)
    elif at - max(series.due_us, runs[-1].ended_us or 0 if runs else 0) > GRACE_US or against.startswith("Hours"):
        plan_store.end_series(db, series.id, "stopped" if runs else "missed", against)


def _ends_here(db: sqlite3.Connection, series: Series, last: Run) -> bool:
    """Whether the last run ended the series before its last step."""
    if last.state == "failed":
        plan_store.end_series(db, series.id, "failed", last.failure or "A run failed.")
    elif last.stop_asked:
        words = run_store.last_words(db, last.id, STOPPED_BY_LOSS) or "It was stopped."
        plan_store.end_series(db, series.id, "stopped", words)
    else:
        return False
    return True


def _what_stands_against(db: sqlite3.Connection, site: Site, plan: Plan, under_way: list[Run], at: int) -> str | None:
    if site.archived_us is not None:
        return "The site was archived."
    if under_way:
        return "Another run was on at this site."
    span = Span(from_us(at), from_us(at) + timedelta(seconds=plan.shape.call_s))
    hit = quiet_span(span, quiet_hours(site), ZoneInfo(site.time_zone))
    if hit:
        return f"Hours without load had come{': ' + hit[1].why if hit[1].why else ''}."
    probe = probe_store.probe_by_id(db, plan.probe_id)
    if probe.retired_us is not None:
        return f"{probe.name} has ended its work."
    if not is_online(probe):
        return f"{probe.name} was offline."
    return None


def _place(db: sqlite3.Connection, plan: Plan, series: Series, round_number: int, calls: int) -> None:
    run_store.add_run(
        db,
        site_id=plan.site_id,
        probe_id=plan.probe_id,
        far_end_id=plan.far_end_id,
        purpose="placed",
        codec=plan.codec,
        ptime_ms=plan.ptime_ms,
        calls=calls,
        seconds=plan.shape.call_s,
        dscp=plan.dscp,
        asked_by=plan.made_by,
        words=f"Step of the plan “{plan.name}”.",
        series_id=series.id,
        round_number=round_number,
        direction=plan.direction,
        video=plan.video,
    )


def stop_heavy_loss(db: sqlite3.Connection, run: Run) -> bool:
    """Ask the run to stop if either direction has lost heavily for a while. Whether it did.

    The while is looked at in three parts, its beginning, its middle and its end, not by the second: an end that
    stands still for a moment tells of nothing in one second and of too much in the next.
    """
    if run.stop_asked:
        return False
    newest = run_store.newest_seconds(db, run.id, HEAVY_LOSS_S + 1)
    marks: list[dict[str, Any]] = []
    for ago in (0, HEAVY_EDGE_S, HEAVY_LOSS_S - HEAVY_EDGE_S, HEAVY_LOSS_S):
        mark = next((s for s in newest if s["second"] <= newest[0]["second"] - ago), None)
        if mark is None:
            return False
        if mark not in marks:  # seconds that were never told leave one mark for two
            marks.append(mark)
    for side in ("up", "down"):
        if all(_heavy(now, before, side) for now, before in itertools.pairwise(marks)):
            run_store.ask_stop(db, run, STOPPED_BY_LOSS)
            return True
    return False


def _heavy(now: dict[str, Any], before: dict[str, Any], side: str) -> bool:
    """Between two seconds, over all calls and video streams; no where nothing was to be expected."""

    def grown(count: str) -> int:
        streams = ([*second[side], *second.get(f"video_{side}", [])] for second in (now, before))
        return sum(n[count] - b[count] for n, b in zip(*streams, strict=True))

    sent = grown("sent")
    return sent > 0 and 100 * (sent - grown("received")) >= HEAVY_LOSS_PCT * sent


def quiet_hours(site: Site) -> list[Quiet]:
    """Hours that pass midnight belong to the day they begin on."""
    return [
        Quiet(b.days, b.from_minute, b.to_minute + (1440 if b.to_minute < b.from_minute else 0), b.why)
        for b in site.blackouts
    ]
