"""What probes say: enrolment, heartbeat, progress, and the record of a run, taken once however often it is sent."""

from __future__ import annotations

import json
import sqlite3
from typing import Any

from flask import Blueprint, Response, current_app, g, request

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import stream_plan
from tarnfell.server import probe_file
from tarnfell.server.access import own_command, own_run
from tarnfell.server.api import Problem, endpoint
from tarnfell.server.models.places import Outcome
from tarnfell.server.models.probes import (
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
    ToldCommand,
)
from tarnfell.server.presence import again_after_s, needs_note
from tarnfell.store import commands as command_store
from tarnfell.store import deliveries as delivery_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.calls import MAX_UPLOAD_BYTES
from tarnfell.store.commands import Command
from tarnfell.store.db import writing
from tarnfell.store.files import DELIVERIES
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.wire import WireError
from tarnfell.wire.failures import CODES, OWN, code_of
from tarnfell.wire.failures import Failure as FailureKept
from tarnfell.wire.record import count_parts
from tarnfell.work.ingest.uploads import check_count
from tarnfell.work.placing.heavy_loss import stop_heavy_loss

blueprint = Blueprint("probes", __name__)
MAX_ENVIRONMENT = 20_000
CHUNK = 1 << 16
LOST = "The probe lost this run: it was replaced, or its disk was emptied. Place the calls again."


@endpoint(blueprint, "POST", "/api/probe/enrol", audience="anyone", response=Enrolled)
def enrol(body: Enrol) -> Enrolled:
    """Trade a one-time token for a probe's own secret."""
    with writing(g.db):
        enrolled = probe_store.enrol(g.db, body.token, _checked(body.environment) or {})
    if enrolled is None:
        raise Problem(403, "This code is unknown, used, revoked or expired. Ask for a new link to the site's probe.")
    probe, secret = enrolled
    return Enrolled(secret=secret, name=probe.name, site=site_store.site_by_id(g.db, probe.site_id).name)


@endpoint(blueprint, "POST", "/api/probe/heartbeat", audience="probe", response=HeartbeatAnswer)
def heartbeat(body: Heartbeat) -> HeartbeatAnswer:
    """A probe is alive and free; it is given the next command or run that waits for it."""
    probe: Probe = g.probe
    again_s = again_after_s(probe.site_id)
    news = _checked(body.environment)
    waiting = command_store.has_open(g.db, probe.id) or run_store.next_for(g.db, probe.id)
    if not (needs_note(probe) or news or waiting or _left_open(probe, body.holds)):
        return HeartbeatAnswer(again_s=again_s)  # nothing to write: most heartbeats end here
    with writing(g.db):
        probe_store.keep_contact(g.db, probe.id, news, request.remote_addr)
        command_store.give_up_taken(g.db, probe.id)
        command = command_store.take_next(g.db, probe.id)
        if command:
            told = ToldCommand(id=command.id, kind=command.kind, arguments=command.arguments)
            return HeartbeatAnswer(command=told, again_s=again_s)
        for lost in _left_open(probe, body.holds):
            if lost.state == "taken":  # the answer that gave it out was lost
                return HeartbeatAnswer(job=_job(lost), again_s=again_s)
            run_store.keep_failure(g.db, lost.id, FailureKept(OWN, LOST))
            run_store.move(g.db, lost, "failed", LOST)
        run = run_store.next_for(g.db, probe.id)
        if run is None:
            return HeartbeatAnswer(again_s=again_s)
        run_store.move(g.db, run, "taken", f"Picked up by {probe.name}.")
    return HeartbeatAnswer(job=_job(run), again_s=again_s)


def _left_open(probe: Probe, holds: list[int] | None) -> list[Run]:
    """Runs that are out with a probe which asks for work, and so has none, and which does not hold their results.

    None of a probe that does not tell what it holds.
    """
    if holds is None:
        return []
    return [run for run in run_store.out_with(g.db, probe.id) if run.id not in holds]


@endpoint(blueprint, "POST", "/api/probe/commands/<int:command_id>/outcome", audience="probe", response=Done)
def outcome(command_id: int, body: Outcome) -> Done:
    """How a command ended. Telling it again changes nothing."""
    with writing(g.db):
        command = own_command(command_id)
        if command.state == "taken":
            failure = body.failure or _act_on(command, body.result or {})
            command_store.finish(g.db, command.id, body.result, failure)
    return Done(state="failed" if body.failure else "done")


@endpoint(blueprint, "GET", "/api/probe/program", audience="probe", produces="application/zip")
def fetch_program() -> Response:
    """The probe's program as this server has it."""
    return Response(probe_file.program(), mimetype="application/zip")


def _act_on(command: Command, result: dict[str, Any]) -> str | None:
    """Keep what a command brought to light; a sentence when it cannot be used."""
    try:
        if command.kind == "distances":
            for one in result["distances"]:
                took = one.get("connect_ms")
                place_store.keep_distance(
                    g.db,
                    command.probe_id,
                    int(one["id"]),
                    None if took is None else float(took),
                    one.get("failure"),
                    one.get("key_fits") if isinstance(one.get("key_fits"), bool) else None,
                )
        elif command.kind == "answer":
            return _keep_answering(command, [str(a) for a in result["addresses"]])
        elif command.kind == "silence":
            far_end = place_store.far_end_of_probe(g.db, command.probe_id)
            if far_end:
                place_store.archive_far_end(g.db, far_end.id, archived=True)
        elif command.kind == "end":
            probe_store.retire(g.db, command.probe_id)
    except (AttributeError, KeyError, TypeError, ValueError, sqlite3.IntegrityError):
        return "The probe's answer was not understood."
    return None


def _keep_answering(command: Command, addresses: list[str]) -> str | None:
    """The probe listens now: the record of it as a far end, at the address others in the building reach."""
    if not addresses:
        return "The probe answers calls but knows no address of its own to be called at."
    how = command.arguments
    far_end = place_store.far_end_of_probe(g.db, command.probe_id)
    media = (how["media_low"], how["media_high"])
    if far_end is None:
        place = f"{g.probe.test_point}, {site_store.site_by_id(g.db, g.probe.site_id).name}"
        number = place_store.add_far_end(
            g.db, g.probe.name, place, addresses[0], how["port"], how["key"], media=media, kind="probe",
            probe_id=command.probe_id,
        )  # fmt: skip
    else:
        number = far_end.id
        place_store.change_far_end(g.db, number, g.probe.name, far_end.place, addresses[0], how["port"], media)
        place_store.set_far_end_key(g.db, number, how["key"])
        place_store.archive_far_end(g.db, number, archived=False)
    place_store.choose_far_end(g.db, g.probe.site_id, number)
    return None


def _checked(environment: dict[str, Any] | None) -> dict[str, Any] | None:
    if environment is not None and len(json.dumps(environment)) > MAX_ENVIRONMENT:
        raise Problem(422, "What the probe tells of its surroundings is too long.")
    return environment


@endpoint(blueprint, "POST", "/api/probe/jobs/<int:run_id>/progress", audience="probe", response=ProgressAnswer)
def progress(run_id: int, body: Progress) -> ProgressAnswer:
    """One more second of a run."""
    with writing(g.db):
        run = own_run(run_id)
        if {len(body.up), len(body.down)} != {run.calls}:
            raise Problem(422, f"Run {run_id} has {run.calls} calls.")
        if {len(body.video_up), len(body.video_down)} != {run.video_streams}:
            raise Problem(422, f"Run {run_id} has {run.video_streams} video streams.")
        probe_store.keep_contact(g.db, g.probe.id, None, request.remote_addr)
        if run.state == "taken":
            run_store.move(g.db, run, "running", "Packets are being sent.")
        if run.state in ("taken", "running"):
            run_store.add_second(g.db, run.id, body.second, body.model_dump())
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
    except WireError as error:
        DELIVERIES.drop(data, sha256)
        raise Problem(422, str(error)) from None
    with writing(g.db):
        run = own_run(run_id)
        delivery, first = delivery_store.add(g.db, run.id, sha256)
        if first:
            run_store.tell(g.db, run, "All packets have arrived and are being judged.")
    if delivery.refused is not None:
        raise Problem(422, delivery.refused)
    return Done(state="delivered")


@endpoint(blueprint, "POST", "/api/probe/jobs/<int:run_id>/failure", audience="probe", response=Done)
def failure(run_id: int, body: Failure) -> Done:
    """A run that could not be carried out, with the reason."""
    with writing(g.db):
        run = own_run(run_id)
        if run.state in ("taken", "running", "waiting"):
            code = body.code if body.code in CODES else code_of(body.reason)
            run_store.keep_failure(g.db, run.id, FailureKept(code, body.reason, body.server_reachable))
            run_store.move(g.db, run, "failed", body.reason)
    return Done(state=run_store.run_by_id(g.db, run_id).state)


def _job(run: Run) -> Job:
    codec = find_codec(run.codec)
    far_end = place_store.far_end_by_id(g.db, run.far_end_id)
    assert far_end is not None  # a key of the table
    plan = stream_plan(codec, run.ptime_ms, run.calls, run.seconds, run.dscp, run.direction, run.video)
    return Job(
        id=run.id,
        far_host=far_end.host,
        far_port=far_end.port,
        far_key=far_end.key,
        plan=JobPlan.model_validate(plan),
    )
