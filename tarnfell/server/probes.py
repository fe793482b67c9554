"""What probes say: enrolment, heartbeat, progress, and the record of a run, taken once however often it is sent."""

from __future__ import annotations

import logging

from flask import Blueprint, g, request

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import stream_plan
from tarnfell.server.api import Problem, endpoint
from tarnfell.server.models import (
    Done,
    Enrol,
    Enrolled,
    Failure,
    Heartbeat,
    HeartbeatAnswer,
    Job,
    JobPlan,
    Progress,
    ProgressAnswer,
)
from tarnfell.store import calls as call_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.runs import Run
from tarnfell.wire import WireError

blueprint = Blueprint("probes", __name__)
log = logging.getLogger(__name__)


@endpoint(blueprint, "POST", "/api/probe/enrol", audience="anyone", response=Enrolled)
def enrol(body: Enrol) -> Enrolled:
    """Trade a one-time token for a probe's own secret."""
    with writing(g.db):
        enrolled = probe_store.enrol(g.db, body.token, dict(body.environment))
    if enrolled is None:
        raise Problem(403, "This token is unknown, used or expired. Ask for a new one on the site's page.")
    probe, secret = enrolled
    return Enrolled(secret=secret, name=probe.name, site=site_store.site_by_id(g.db, probe.site_id).name)


@endpoint(blueprint, "POST", "/api/probe/heartbeat", audience="probe", response=HeartbeatAnswer)
def heartbeat(body: Heartbeat) -> HeartbeatAnswer:
    """A probe is alive and free; it is given the next run that waits for it."""
    with writing(g.db):
        probe_store.heard(g.db, g.probe.id, dict(body.environment))
        run = run_store.next_for(g.db, g.probe.id)
        if run is None:
            return HeartbeatAnswer(job=None)
        run_store.move(g.db, run, "taken", f"Taken by {g.probe.name}.")
    return HeartbeatAnswer(job=_job(run))


@endpoint(blueprint, "POST", "/api/probe/jobs/<int:run_id>/progress", audience="probe", response=ProgressAnswer)
def progress(run_id: int, body: Progress) -> ProgressAnswer:
    """One more second of a run."""
    with writing(g.db):
        run = _own_run(run_id)
        if len(body.up) != run.calls or len(body.down) != run.calls:
            raise Problem(422, f"Run {run_id} has {run.calls} calls.")
        probe_store.heard(g.db, g.probe.id, g.probe.environment)
        if run.state == "taken":
            run_store.move(g.db, run, "running", "Packets are being sent.")
        if run.state in ("taken", "running"):
            run_store.add_second(g.db, run.id, body.second, body.model_dump())
    return ProgressAnswer(stop=bool(run.stop_asked) or run.state == "failed")


@endpoint(blueprint, "PUT", "/api/probe/jobs/<int:run_id>/record", audience="probe", response=Done)
def record(run_id: int) -> Done:
    """The packet record of a run. Sending it again changes nothing."""
    run = _own_run(run_id)
    if run.state == "done":
        return Done(state="done")
    try:
        judged = call_store.judge_upload(run, request.get_data())
    except WireError as error:
        raise Problem(422, str(error)) from None
    except (KeyError, TypeError, ValueError, OverflowError) as error:
        log.warning("record of run %s turned away: %r", run_id, error)
        raise Problem(422, "The record file contradicts itself and was not taken.") from None
    with writing(g.db):
        call_store.take_in(g.db, _own_run(run_id), judged)
    return Done(state="done")


@endpoint(blueprint, "POST", "/api/probe/jobs/<int:run_id>/failure", audience="probe", response=Done)
def failure(run_id: int, body: Failure) -> Done:
    """A run that could not be carried out, with the reason."""
    with writing(g.db):
        run = _own_run(run_id)
        if run.state in ("taken", "running", "waiting"):
            run_store.move(g.db, run, "failed", body.reason)
    return Done(state=run_store.run_by_id(g.db, run_id).state)


def _own_run(run_id: int) -> Run:
    try:
        run = run_store.run_by_id(g.db, run_id)
    except (KeyError, OverflowError):
        run = None
    if run is None or run.probe_id != g.probe.id:
        raise Problem(404, f"There is no run {run_id} for this probe.")
    return run


def _job(run: Run) -> Job:
    codec = find_codec(run.codec)
    far_end = site_store.far_end_by_id(g.db, run.far_end_id)
    return Job(
        id=run.id,
        far_host=far_end.host,
        far_port=far_end.port,
        far_key=far_end.key,
        plan=JobPlan.model_validate(stream_plan(codec, run.ptime_ms, run.calls, run.seconds, run.dscp)),
    )
