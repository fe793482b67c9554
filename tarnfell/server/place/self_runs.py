"""What came of tests from a browser, as whoever ran them and the consultant see it."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from statistics import median
from typing import TypeVar

from tarnfell.core.browser_reach import reach_says
from tarnfell.core.line.values import LineFilled, Side
from tarnfell.report.locales import localized
from tarnfell.server.http.models.base import Model
from tarnfell.server.place.models.browsers import (
    ReachHop,
    RunBeside,
    SelfFill,
    SelfFillWay,
    SelfReach,
    SelfRun,
    SelfRunDirection,
    WayBeside,
)
from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.calls import StoredDirection
from tarnfell.store.fills import FillAsked
from tarnfell.store.jobs import Job
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.check import CheckResult
from tarnfell.wire.kinds.fields import read
from tarnfell.wire.kinds.path import PathFacts
from tarnfell.wire.kinds.selfcheck import LOOP_P99_LIMIT_MS, judge
from tarnfell.work.judging.calls import acceptable
from tarnfell.work.judging.run import run_direction

SHOWN = 12
CHECKS_LOOKED_AT = 20
_SENTENCES = frozenset({"says", "doubts", "failure", "why"})
Found = TypeVar("Found", bound=Model)


def self_runs(db: sqlite3.Connection, site: Site, probe_id: int) -> list[SelfRun]:
    """Of one browser, newest first."""
    runs = [run_store.run_by_id(db, number) for number in browser_store.newest_runs(db, probe_id, SHOWN)]
    return [_view(db, site, run) for run in runs]


def self_fills(db: sqlite3.Connection, probe_id: int) -> list[SelfFill]:
    """Of one browser, newest first."""
    return [_fill(db, job) for job in job_store.newest_with(db, probe_id, "fill", SHOWN)]


def as_read_in(found: Sequence[Found], locale: str) -> list[Found]:
    """The same, with dates and numbers in its sentences as the reader's country writes them."""
    return [_as_read_in(one, locale) for one in found]


def _as_read_in(model: Found, locale: str) -> Found:
    changed: dict[str, object] = {}
    for name, value in model:
        if isinstance(value, Model):
            changed[name] = _as_read_in(value, locale)
        elif name in _SENTENCES and isinstance(value, str):
            changed[name] = localized(value, locale)
        elif name in _SENTENCES and isinstance(value, list):
            changed[name] = [localized(one, locale) for one in value]
    return model.model_copy(update=changed)


def _fill(db: sqlite3.Connection, job: Job) -> SelfFill:
    fill = fill_store.fill_by_id(db, job.id)
    filled = fill.filled if fill else None
    far_end = place_store.far_end_by_id(db, read(FillAsked, job.arguments).far_end_id)
    return SelfFill(
        job_id=job.id,
        far_end=far_end.name if far_end else "",
        at_us=job.begun_us or job.created_us,
        state=job.state,
        failure=job.failure or (fill.failure if fill else None),
        doubts=list(filled.spoiled) if filled else [],
        says=list(filled.says) if filled else [],
        reach=_reach(db, job.id),
        way=browser_store.way_of(db, job.id),
        up=_filled_way(filled, "up") if filled else None,
        down=_filled_way(filled, "down") if filled else None,
    )


def _reach(db: sqlite3.Connection, job_id: int) -> SelfReach:
    reach, web_source = browser_store.reach_of(db, job_id)
    path = reach.far.path if reach.far else None
    return SelfReach(says=list(reach_says(reach, web_source)), hops=_hops(path) if path else [])


def _hops(path: PathFacts) -> list[ReachHop]:
    return [
        ReachHop(number=hop.ttl, address=hop.address, rtt_ms=median(hop.rtt_ms) if hop.rtt_ms else None)
        for hop in path.hops
    ]


def way_beside(db: sqlite3.Connection, site: Site, probe_id: int) -> WayBeside | None:
    """By the newest check of a probe at the browser's test point."""
    desk = probe_store.probe_by_id(db, probe_id).test_point_id
    for job in job_store.newest_of_kind(db, site.id, "check", CHECKS_LOOKED_AT):
        probe = probe_store.probe_by_id(db, job.probe_id)
        if probe.test_point_id != desk or job.state != "done" or not job.result:
            continue
        path = read(CheckResult, job.result).path
        if path is not None:
            at_us = job.begun_us or job.created_us
            return WayBeside(
                probe=probe.name, at_us=at_us, address=path.address, reached=path.reached, hops=_hops(path)
            )
    return None


def _filled_way(filled: LineFilled, side: Side) -> SelfFillWay | None:
    phase, idle = filled.phase(side), filled.phase("idle")
    if phase is None:
        return None
    now = phase.side(side)
    return SelfFillWay(
        throughput_kbps=now.throughput_kbps,
        added_ms=now.delay_added_p95_ms,
        loss_pct=now.loss_pct,
        mos_idle=idle.side(side).mos if idle else None,
        mos=now.mos,
    )


def run_beside(db: sqlite3.Connection, site: Site, probe_id: int) -> RunBeside | None:
    """What a probe found at the browser's desk, near to when the browser tested."""
    done = (run_store.run_by_id(db, number) for number in browser_store.newest_runs(db, probe_id, SHOWN))
    newest = next((run for run in done if run.state == "done"), None)
    number = browser_store.run_beside(db, probe_id, _began(newest)) if newest else None
    if newest is None or number is None:
        return None
    run = run_store.run_by_id(db, number)
    far_end = place_store.far_end_by_id(db, run.far_end_id)
    directions = call_store.directions_of_run(db, run.id)
    return RunBeside(
        run_id=run.id,
        probe=probe_store.probe_by_id(db, run.probe_id).name,
        far_end=far_end.name if far_end else "",
        at_us=_began(run),
        apart_s=(_began(run) - _began(newest)) / 1e6,
        up=_way(site, [one for one in directions if one.direction == "up"]),
        down=_way(site, [one for one in directions if one.direction == "down"]),
    )


def _began(run: Run) -> int:
    return run.begun_us or run.created_us


def _view(db: sqlite3.Connection, site: Site, run: Run) -> SelfRun:
    far_end = place_store.far_end_by_id(db, run.far_end_id)
    check = run_store.self_check(run.self_check)
    scatter = check.probe.scatter_ms if check else None
    directions = call_store.directions_of_run(db, run.id) if run.state == "done" else []
    return SelfRun(
        run_id=run.id,
        far_end=far_end.name if far_end else "",
        at_us=_began(run),
        state=run.state,
        calls=run.calls,
        failure=run.failure or run.cut_reason,
        doubts=list(check.reasons) if check else [],
        own_doubt=check is not None and bool(judge("browser", check.probe, LOOP_P99_LIMIT_MS)),
        scatter_ms=scatter.p99 if scatter else None,
        hidden_s=check.probe.hidden_s if check else 0.0,
        reach=_reach(db, run.id),
        way=browser_store.way_of(db, run.id),
        up=_way(site, [one for one in directions if one.direction == "up"]),
        down=_way(site, [one for one in directions if one.direction == "down"]),
    )


def _way(site: Site, calls: list[StoredDirection]) -> SelfRunDirection | None:
    told = run_direction([one.figures for one in calls])
    if told is None:
        return None
    return SelfRunDirection(
        loss_pct=told.loss_pct + told.late_pct,
        delay_ms=told.delay_p50_ms,
        jitter_ms=told.jitter_ms,
        mos=told.mos_p50,
        acceptable=sum(bool(acceptable(one, site.targets)) for one in calls),
        why=told.why,
    )
