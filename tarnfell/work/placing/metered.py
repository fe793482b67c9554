"""Metered lines: what loads have moved at a site since its midnight, and what is left of the day's allowance.

Calls and small packets count as they were planned, so that one that was stopped early is counted too high rather than
too low; streams that fill the line count as they were measured.
"""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from datetime import datetime
from zoneinfo import ZoneInfo

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import Plan, call_rate, hold, plan_run
from tarnfell.core.schedule import to_us
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.fills import FillAsked
from tarnfell.store.flows import FlowAsked
from tarnfell.store.jobs import Job
from tarnfell.store.runs import Run, RunSpec
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fields import read
from tarnfell.wire.kinds.fill import FillPlan, FillResult
from tarnfell.wire.kinds.flow import FlowPlan
from tarnfell.work.placing.flow_plan import offered

MB = 1_000_000


def left_bytes(db: sqlite3.Connection, site: Site, at: datetime) -> int | None:
    """Of the day's allowance, zero at the least; None where the line is not metered."""
    if site.metered_mb is None:
        return None
    midnight = at.astimezone(ZoneInfo(site.time_zone)).replace(hour=0, minute=0, second=0, microsecond=0)
    jobs = job_store.taken_since(db, site.id, ("calls", "fill", "flow"), to_us(midnight))
    return max(0, site.metered_mb * MB - round(sum(_moved_bytes(db, site, job) for job in jobs)))


def _moved_bytes(db: sqlite3.Connection, site: Site, job: Job) -> float:
    if job.kind == "calls":
        return run_bytes(site, run_store.run_by_id(db, job.id))
    if job.kind == "flow":
        return flow_bytes(read(FlowAsked, job.arguments).plan)
    asked = read(FillAsked, job.arguments)
    if fill_store.fill_by_id(db, job.id) is not None:
        phases = fill_store.told_of(db, job.id).phases
    elif job.state in job_store.OPEN:
        return beside_bytes(site, asked.plan) + asked.plan.most_bytes  # what it may move at the most
    else:
        phases = read(FillResult, job.result).phases if job.result else ()  # as far as it was told before it failed
    return beside_bytes(site, asked.plan) + sum(sum(one.up) + sum(one.down) for one in phases)


def run_bytes(site: Site, spec: RunSpec | Run) -> float:
    plan = plan_run(
        find_codec(spec.codec), spec.ptime_ms, hold(spec.calls, spec.seconds), site.link, spec.direction, spec.video
    )
    return spec.seconds * bytes_a_second(plan, spec.direction)


def bytes_a_second(plan: Plan, direction: str) -> float:
    """Of all calls at once, each way that is used."""
    return plan.each_way_line_kbps * 1000 / 8 * (2 if direction == "both" else 1)


def flow_bytes(plan: FlowPlan) -> float:
    return offered(plan).ip_kbps * 1000 / 8 * plan.seconds * (2 if plan.direction == "both" else 1)


def beside_bytes(site: Site, plan: FillPlan) -> float:
    """The two calls beside a fill, both ways."""
    return 4 * call_rate(find_codec(site.codec), site.ptime_ms, site.link).line_kbps * 1000 / 8 * plan.length_s


def within_allowance(db: sqlite3.Connection, site: Site, asked: FillAsked, at: datetime) -> FillAsked:
    """With what its streams may move at the most; as it is where the line is not metered."""
    left = left_bytes(db, site, at)
    if left is None:
        return asked
    return replace(asked, plan=replace(asked.plan, most_bytes=max(1, round(left - beside_bytes(site, asked.plan)))))
