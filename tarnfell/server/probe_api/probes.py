"""What probes say: enrolment, heartbeat, progress, and results, each taken once however often it is sent."""

from __future__ import annotations

from collections.abc import Mapping

from flask import Blueprint, Response, current_app, g, request

from tarnfell.server.access import own_job, own_run, own_watch
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.auth import peer_of
from tarnfell.server.place import probe_file
from tarnfell.server.place.presence import again_after_s, needs_note
from tarnfell.server.probe_api.models.probes import (
    CallsOfBefore,
    Done,
    Enrol,
    Enrolled,
    Failure,
    Heartbeat,
    HeartbeatAnswer,
    JobOffer,
    Known,
    Outcome,
    OutcomeOfBefore,
    Progress,
    ProgressAnswer,
)
from tarnfell.store import deliveries as delivery_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.calls import MAX_UPLOAD_BYTES
from tarnfell.store.db import now_us, writing
from tarnfell.store.files import DELIVERIES
from tarnfell.store.probes import Probe
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fields import KindError, read
from tarnfell.wire.kinds.surroundings import surroundings_of
from tarnfell.wire.kinds.watch import WatchRunning
from tarnfell.wire.record import count_parts, split_parts
from tarnfell.work.ingest.outcomes import take_failure, take_known, take_outcome
from tarnfell.work.ingest.uploads import check_count
from tarnfell.work.placing.hand_out import Offer, Told, anything_open, hand_out, to_stop
from tarnfell.work.placing.heavy_loss import stop_heavy_loss
from tarnfell.work.watch.samples import MAX_BYTES, read_batch, read_batches
from tarnfell.work.watch.wanted import is_news, wanted_of
from tarnfell.work.watch.wanted import note as note_watch

blueprint = Blueprint("probes", __name__)
CHUNK = 1 << 16
MAX_RESULT_BYTES = 1 << 20
"""A check of 500 services tells of each."""


@endpoint(blueprint, "POST", "/api/probe/enrol", audience="anyone", response=Enrolled)
def enrol(body: Enrol) -> Enrolled:
    """Trade a one-time token for a probe's own secret."""
    with writing(g.db):
        enrolled = probe_store.enrol(g.db, body.token, surroundings_of(body.environment))
    if enrolled is None:
        raise Problem(403, "This code is unknown, used, revoked or expired. Ask for a new link to the site's probe.")
    probe, secret = enrolled
    return Enrolled(secret=secret, name=probe.name, site=site_store.site_by_id(g.db, probe.site_id).name)


@endpoint(blueprint, "POST", "/api/probe/heartbeat", audience="probe", response=HeartbeatAnswer)
def heartbeat(body: Heartbeat) -> HeartbeatAnswer:
    """A probe is alive; it is told what to begin and what to end."""
    probe: Probe = g.probe
    told = Told(body.holds, body.kinds)
    try:
        running = None if body.watch is None else read(WatchRunning, body.watch)
    except KindError as error:
        raise Problem(422, f"What the probe tells of its watch is not understood. {error}") from None
    again_s = again_after_s(probe.site_id)
    news = None if body.environment is None else surroundings_of(body.environment)
    clock_off_us = None if body.clock_us is None else body.clock_us - now_us()
    if needs_note(probe) or news or anything_open(g.db, probe, told) or is_news(g.db, probe, running):
        with writing(g.db):
            probe_store.keep_contact(g.db, probe.id, news, peer_of(request), clock_off_us)
            offers = hand_out(g.db, probe, told)
            note_watch(g.db, probe, running)
    else:
        offers = []  # nothing to write
    if told.one_at_a_time:
        return _of_before(offers, again_s)
    jobs = [JobOffer(id=o.job.id, kind=o.job.kind, arguments=o.arguments) for o in offers]
    return HeartbeatAnswer(jobs=jobs, stop=to_stop(g.db, probe), watch=wanted_of(g.db, probe), again_s=again_s)


def _of_before(offers: list[Offer], again_s: float) -> HeartbeatAnswer:
    for offer in offers:
        if offer.job.kind == "calls":
            return HeartbeatAnswer(
                job=CallsOfBefore.model_validate({"id": offer.job.id, **offer.arguments}), again_s=again_s
            )
        told = JobOffer(id=offer.job.id, kind=offer.job.kind, arguments=offer.arguments)
        return HeartbeatAnswer(command=told, again_s=again_s)
    return HeartbeatAnswer(again_s=again_s)


@endpoint(
    blueprint, "POST", "/api/probe/jobs/<int:job_id>/known", audience="probe", response=ProgressAnswer,
    max_body=MAX_RESULT_BYTES,
)  # fmt: skip
def known(job_id: int, body: Known) -> ProgressAnswer:
    """What is known so far of a job that goes on."""
    with writing(g.db):
        job = own_job(job_id)
        try:
            take_known(g.db, job, body.result)
        except KindError as error:
            raise Problem(422, str(error)) from None
    return ProgressAnswer(stop=job.stop_reason is not None or job.state == "failed")


@endpoint(
    blueprint, "POST", "/api/probe/jobs/<int:job_id>/outcome", audience="probe", response=Done,
    max_body=MAX_RESULT_BYTES,
)  # fmt: skip
def outcome(job_id: int, body: Outcome) -> Done:
    """The result of a job that is no run. Telling it again changes nothing."""
    return _take_outcome(job_id, body.result)


@endpoint(blueprint, "POST", "/api/probe/commands/<int:job_id>/outcome", audience="probe", response=Done)
def outcome_of_before(job_id: int, body: OutcomeOfBefore) -> Done:
    """As probes tell it that do one thing at a time."""
    if body.failure is None:
        return _take_outcome(job_id, body.result or {})
    with writing(g.db):
        take_failure(g.db, own_job(job_id), body.failure, None, None)
    return Done(state=own_job(job_id).state)


def _take_outcome(job_id: int, result: Mapping[str, object]) -> Done:
    with writing(g.db):
        take_outcome(g.db, g.probe, own_job(job_id), result)
    return Done(state=own_job(job_id).state)


@endpoint(blueprint, "GET", "/api/probe/program", audience="probe", produces="application/zip")
def fetch_program() -> Response:
    """The probe's program as this server has it."""
    return Response(probe_file.program(), mimetype="application/zip")


@endpoint(blueprint, "POST", "/api/probe/jobs/<int:run_id>/progress", audience="probe", response=ProgressAnswer)
def progress(run_id: int, body: Progress) -> ProgressAnswer:
    """One more second of a run."""
    with writing(g.db):
        run = own_run(run_id)
        if {len(body.up), len(body.down)} != {run.calls}:
            raise Problem(422, f"Run {run_id} has {run.calls} calls.")
        if {len(body.video_up), len(body.video_down)} != {run.video_streams}:
            raise Problem(422, f"Run {run_id} has {run.video_streams} video streams.")
        probe_store.keep_contact(g.db, g.probe.id, None, peer_of(request))
        if run.state == "taken":
            job_store.move(g.db, run.id, "running", "Packets are being sent.")
        if run.state in ("taken", "running"):
            job_store.add_second(g.db, run.id, body.second, body.model_dump_json())
        stop = run.stop_reason is not None or run.state == "failed" or stop_heavy_loss(g.db, run)
    return ProgressAnswer(stop=stop)


@endpoint(
    blueprint, "PUT", "/api/probe/jobs/<int:run_id>/record", audience="probe", response=Done, max_body=MAX_UPLOAD_BYTES
)
def record(run_id: int) -> Done:
    """The packet record of a run. Sending it again changes nothing."""
    run = own_run(run_id)
    if run.state == "done":
        return Done(state="done")
    data = current_app.config["DATA"]
    sha256 = DELIVERIES.keep(data, iter(lambda: request.stream.read(CHUNK), b""))
    try:
        with DELIVERIES.place(data, sha256).open("rb") as file:
            check_count(run, count_parts(file))
    except FileNotFoundError:  # the clerk let go of it, having judged it meanwhile
        if own_run(run_id).state != "done":
            raise
        return Done(state="done")
    except WireError as error:
        DELIVERIES.drop(data, sha256)
        raise Problem(422, str(error)) from None
    with writing(g.db):
        run = own_run(run_id)
        if run.state != "done":
            delivery, first = delivery_store.add(g.db, run.id, sha256)
            if first:
                job_store.tell(g.db, run.id, "All packets have arrived and are being judged.")
    if run.state == "done":  # judged while they were coming once more
        if sha256 not in delivery_store.known(g.db):
            DELIVERIES.drop(data, sha256)
        return Done(state="done")
    if delivery.refused is not None:
        raise Problem(422, delivery.refused)
    return Done(state="delivered")


@endpoint(
    blueprint, "PUT", "/api/probe/watches/<int:watch_id>/samples/<int:first_us>", audience="probe", response=Done,
    max_body=MAX_BYTES,
)  # fmt: skip
def samples(watch_id: int, first_us: int) -> Done:
    """A batch of samples, named by its first sample's time in Unix microseconds. Sending it again changes nothing."""
    watch = own_watch(watch_id)
    try:
        batch = read_batch(watch.id, first_us, request.get_data())
    except WireError as error:
        raise Problem(422, str(error)) from None
    with writing(g.db):
        watch_store.keep(g.db, [batch])
    return Done(state="done")


@endpoint(
    blueprint, "PUT", "/api/probe/watches/<int:watch_id>/samples", audience="probe", response=Done, max_body=MAX_BYTES
)
def samples_together(watch_id: int) -> Done:
    """Batches of samples that waited, each with its length before it: all of them, or none where one cannot be read.
    Sending them again changes nothing."""
    watch = own_watch(watch_id)
    try:
        batches = read_batches(watch.id, split_parts(request.get_data()))
    except WireError as error:
        raise Problem(422, str(error)) from None
    with writing(g.db):
        watch_store.keep(g.db, batches)
    return Done(state="done")


@endpoint(blueprint, "POST", "/api/probe/jobs/<int:job_id>/failure", audience="probe", response=Done)
def failure(job_id: int, body: Failure) -> Done:
    """A job that could not be carried out, with the reason."""
    with writing(g.db):
        take_failure(g.db, own_job(job_id), body.reason, body.code, body.server_reachable)
    return Done(state=own_job(job_id).state)
