"""Which jobs a probe is given at its heartbeat, and what becomes of those it no longer knows.

A probe tells what it holds: jobs in hand, and results on its disk. What it was given and does not hold was lost: given
again if it had not begun, failed otherwise.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from tarnfell.core.codecs import find_codec
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.fills import FillAsked
from tarnfell.store.flows import FlowAsked
from tarnfell.store.jobs import Job
from tarnfell.store.probes import Probe
from tarnfell.store.survey import LookAsked
from tarnfell.wire.failures import OTHER, OWN, Failure
from tarnfell.wire.kinds import KINDS, may_begin
from tarnfell.wire.kinds.calls import CallsArguments
from tarnfell.wire.kinds.check import CheckArguments, ServiceAsked
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.fill import FillArguments
from tarnfell.wire.kinds.flow import FlowArguments
from tarnfell.wire.kinds.look import LookTarget
from tarnfell.wire.kinds.services import ServicesArguments
from tarnfell.work.placing.call_plan import call_plan
from tarnfell.work.placing.fill_plan import calls_beside
from tarnfell.work.placing.flow_plan import streams_of

LOST_RUN = "The probe lost this run: it was replaced, or its disk was emptied. Place the calls again."
LOST = "The probe lost it: it was replaced, or its disk was emptied. Try again."
UNKNOWN = "This probe's program does not know this yet. Update the probe from its place, then ask again."
KINDS_OF_BEFORE = ("calls", "distances", "answer", "silence", "update", "end")
"""What probes know that do not tell what they know. They do one thing at a time."""


@dataclass(frozen=True)
class Told:
    """What a probe says of itself at a heartbeat."""

    holds: Sequence[int] | None
    """Jobs in hand or done and not delivered; None from a probe that does not tell."""
    kinds: Sequence[str] | None
    """What it can do; None from a probe that does one thing at a time, and asks when it is free."""

    @property
    def one_at_a_time(self) -> bool:
        return self.kinds is None


@dataclass(frozen=True)
class Offer:
    job: Job
    arguments: Mapping[str, object]


def anything_open(db: sqlite3.Connection, probe: Probe, told: Told) -> bool:
    """Whether ``hand_out`` would change anything. Most heartbeats end here."""
    return bool(job_store.waiting_for(db, probe.id) or _lost(db, probe, told))


def hand_out(db: sqlite3.Connection, probe: Probe, told: Told) -> list[Offer]:
    """What the probe is to begin now, marked as taken. Within a transaction."""
    again: list[Job] = []
    for job in _lost(db, probe, told):
        # The answer that gave it out was lost; a probe that cannot say so is not asked twice for the same.
        if job.state == "taken" and told.holds is not None and not (told.one_at_a_time and job.kind != "calls"):
            again.append(job)
        else:
            reason = LOST_RUN if job.kind == "calls" else LOST
            job_store.keep_failure(db, job.id, Failure(OWN, reason))
            job_store.move(db, job.id, "failed", reason)
    lanes = [KINDS[job.kind].lane for job in job_store.out_with(db, probe.id) if job not in again]
    given: list[Offer] = []
    for job in [*again, *_in_turn(job_store.waiting_for(db, probe.id), told)]:
        if job.kind not in (told.kinds or KINDS_OF_BEFORE):
            job_store.keep_failure(db, job.id, Failure(OTHER, UNKNOWN))
            job_store.move(db, job.id, "failed", UNKNOWN)
            continue
        lane = KINDS[job.kind].lane
        if not may_begin(lane, lanes) or (told.one_at_a_time and given):
            if lane == "alone":
                break  # nothing may overtake it, or it would never have its turn
            continue
        lanes.append(lane)
        if job not in again:
            job_store.move(db, job.id, "taken", f"Picked up by {probe.name}.")
        given.append(Offer(job, arguments_of(db, job)))
    return given


def to_stop(db: sqlite3.Connection, probe: Probe) -> list[int]:
    """Jobs out with this probe that somebody wants to end."""
    return [job.id for job in job_store.out_with(db, probe.id) if job.stop_reason is not None]


def arguments_of(db: sqlite3.Connection, job: Job) -> Mapping[str, object]:
    """As its kind reads them. Those of calls are made when they are given out: keys and addresses may have changed."""
    if job.kind == "check":
        return _check_arguments(db, job)
    if job.kind == "fill":
        return _fill_arguments(db, job)
    if job.kind == "flow":
        return _flow_arguments(db, job)
    if job.kind == "look":
        return _look_arguments(db, job)
    if job.kind == "services":
        return _services_arguments(db, job)
    if job.kind != "calls":
        return job.arguments
    run = run_store.run_by_id(db, job.id)
    far_end = place_store.far_end_by_id(db, run.far_end_id)
    assert far_end is not None  # a key of the table
    plan = call_plan(find_codec(run.codec), run.ptime_ms, run.calls, run.seconds, run.dscp, run.direction, run.video)
    return plain(CallsArguments(plan, far_end.host, far_end.port, far_end.key))


def _check_arguments(db: sqlite3.Connection, job: Job) -> Mapping[str, object]:
    far_end = place_store.far_end_by_id(db, read(check_store.Asked, job.arguments).far_end_id)
    assert far_end is not None  # far ends are archived, never deleted
    wish = check_store.wish_of(db, job.site_id)
    shared = check_store.services_of(db, site_store.site_by_id(db, job.site_id).engagement_id)
    return plain(
        CheckArguments(
            far_end.host, far_end.port, far_end.key, far_end.media_low or 20000,
            wish.gateway, wish.edge, wish.outside, wish.resolvers, wish.names, all_services(shared, wish.services),
            wish.account,
        )
    )  # fmt: skip


def all_services(shared: Sequence[ServiceAsked], own: Sequence[ServiceAsked]) -> tuple[ServiceAsked, ...]:
    """The engagement's, then the site's own; what stands in both is asked once, as the site has it."""
    found = {(one.host, one.port, one.protocol): one for one in (*shared, *own)}
    return tuple(found.values())


def _services_arguments(db: sqlite3.Connection, job: Job) -> Mapping[str, object]:
    """What the site's check asks for by now."""
    wish = check_store.wish_of(db, job.site_id)
    shared = check_store.services_of(db, site_store.site_by_id(db, job.site_id).engagement_id)
    return plain(ServicesArguments(wish.names, wish.resolvers, all_services(shared, wish.services)))


def _fill_arguments(db: sqlite3.Connection, job: Job) -> Mapping[str, object]:
    asked = read(FillAsked, job.arguments)
    far_end = place_store.far_end_by_id(db, asked.far_end_id)
    assert far_end is not None
    wish = check_store.wish_of(db, job.site_id)
    plan = calls_beside(find_codec(asked.codec), asked.ptime_ms, asked.plan)
    return plain(FillArguments(plan, asked.plan, far_end.host, far_end.port, far_end.key, wish.gateway, wish.edge))


def _flow_arguments(db: sqlite3.Connection, job: Job) -> Mapping[str, object]:
    asked = read(FlowAsked, job.arguments)
    far_end = place_store.far_end_by_id(db, asked.far_end_id)
    assert far_end is not None
    return plain(FlowArguments(streams_of(asked.plan), far_end.host, far_end.port, far_end.key))


def _look_arguments(db: sqlite3.Connection, job: Job) -> Mapping[str, object]:
    asked = read(LookAsked, job.arguments)
    if asked.far_end_id is None:
        return plain(asked.look)
    far = place_store.far_end_by_id(db, asked.far_end_id)
    assert far is not None
    targets = (*asked.look.targets, LookTarget("far-end", far.host))
    look = replace(asked.look, targets=targets, far_host=far.host, far_port=far.port, far_key=far.key)
    return plain(look)


def _lost(db: sqlite3.Connection, probe: Probe, told: Told) -> list[Job]:
    """Jobs that are out with a probe which does not hold them.

    Of a probe of before, which asks for more only when it has nothing in hand: it tells of runs, or of nothing, and
    delivers the results of everything else before it asks.
    """
    out = job_store.out_with(db, probe.id)
    if told.holds is None:
        return [job for job in out if job.kind != "calls"]
    return [job for job in out if job.id not in told.holds]


def _in_turn(waiting: list[Job], told: Told) -> list[Job]:
    """Oldest first; for a probe that does one thing at a time what is soon done comes before calls."""
    return sorted(waiting, key=lambda job: (job.kind == "calls", job.id)) if told.one_at_a_time else waiting
