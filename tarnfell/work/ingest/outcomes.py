"""What a probe tells of a job whose result is no record of packets: read by its kind, and kept where it belongs."""

from __future__ import annotations

import logging
import sqlite3
from collections.abc import Mapping

from tarnfell.store import fills as fill_store
from tarnfell.store import flows as flow_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import routines as routine_store
from tarnfell.store import sites as site_store
from tarnfell.store import survey as survey_store
from tarnfell.store.db import now_us
from tarnfell.store.fills import FillAsked
from tarnfell.store.flows import FlowAsked
from tarnfell.store.jobs import Job
from tarnfell.store.probes import Probe
from tarnfell.wire.failures import CODES, OTHER, Failure, code_of
from tarnfell.wire.kinds import KINDS
from tarnfell.wire.kinds.answer import AnswerArguments, AnswerResult
from tarnfell.wire.kinds.distances import DistancesResult
from tarnfell.wire.kinds.fields import KindError, read
from tarnfell.wire.kinds.fill import FillResult
from tarnfell.wire.kinds.flow import FlowResult
from tarnfell.wire.kinds.look import LookResult
from tarnfell.wire.kinds.services import ServicesResult

NOT_UNDERSTOOD = "The probe's answer was not understood."


log = logging.getLogger(__name__)


def take_failure(db: sqlite3.Connection, job: Job, reason: str, code: str | None, reachable: bool | None) -> None:
    """It could not be done. Told again, or after the result, it changes nothing."""
    if job.state in job_store.OPEN:
        known = code if code in CODES else code_of(reason)
        job_store.keep_failure(db, job.id, Failure(known, reason, reachable))
        job_store.move(db, job.id, "failed", reason)


def take_known(db: sqlite3.Connection, job: Job, result: Mapping[str, object]) -> None:
    """What is known so far of a job that goes on. Raises KindError. After its end it changes nothing."""
    shape = KINDS[job.kind].result
    if shape is None:
        raise KindError("Calls are told second by second.")
    read(shape, result, "What is known")
    if job.state == "taken":
        job_store.move(db, job.id, "running", "")
    if job.state in ("taken", "running"):
        job_store.keep_result(db, job.id, result)


def take_outcome(db: sqlite3.Connection, probe: Probe, job: Job, result: Mapping[str, object]) -> str | None:
    """It is done. Told again it changes nothing. A sentence where what was told cannot be used: the job has failed."""
    if job.state == "done":
        return None
    shape = KINDS[job.kind].result
    if shape is None:
        return "Calls are told by a record of their packets."
    try:
        problem = _keep(db, probe, job, read(shape, result, "The result"))
    except KindError as error:
        log.warning("result of job %s, %s: %s", job.id, job.kind, error)
        problem = NOT_UNDERSTOOD
    if problem is None:
        # What fills, loads and surveyed places tell has a table of its own, where the clerk finds it.
        elsewhere = job.kind in ("fill", "flow", "services") or survey_store.is_of_survey(db, job.id)
        job_store.keep_result(db, job.id, {} if elsewhere else result)
        job_store.move(db, job.id, "done", "")
    elif job.state in job_store.OPEN:
        job_store.keep_failure(db, job.id, Failure(OTHER, problem))
        job_store.move(db, job.id, "failed", problem)
    return problem


def _keep(db: sqlite3.Connection, probe: Probe, job: Job, result: object) -> str | None:
    if isinstance(result, DistancesResult):
        for one in result.distances:
            if place_store.far_end_by_id(db, one.id) is None:
                return NOT_UNDERSTOOD  # a far end that there is not
            place_store.keep_distance(db, probe.id, one.id, one.connect_ms, one.failure, one.key_fits)
    elif isinstance(result, FillResult):
        fill_store.keep(db, job.id, job.site_id, read(FillAsked, job.arguments), result)
    elif isinstance(result, FlowResult):
        flow_store.keep(db, job.id, job.site_id, read(FlowAsked, job.arguments), result)
    elif isinstance(result, ServicesResult):
        routine_store.keep_services(db, job.id, probe.id, job.begun_us or job.taken_us or now_us(), result)
    elif isinstance(result, LookResult):
        survey_store.keep_told(db, job.id, result)
    elif isinstance(result, AnswerResult):
        return _keep_answering(db, probe, read(AnswerArguments, job.arguments), result.addresses)
    elif job.kind == "silence":
        far_end = place_store.far_end_of_probe(db, probe.id)
        if far_end:
            place_store.archive_far_end(db, far_end.id, archived=True)
    elif job.kind == "end":
        probe_store.retire(db, probe.id)
    return None


def _keep_answering(
    db: sqlite3.Connection, probe: Probe, how: AnswerArguments, addresses: tuple[str, ...]
) -> str | None:
    """The probe listens now: the record of it as a far end, at the address others in the building reach."""
    if not addresses:
        return "The probe answers calls but knows no address of its own to be called at."
    far_end = place_store.far_end_of_probe(db, probe.id)
    media = (how.media_low, how.media_high)
    if far_end is None:
        place = f"{probe.test_point}, {site_store.site_by_id(db, probe.site_id).name}"
        number = place_store.add_far_end(
            db, probe.name, place, addresses[0], how.port, how.key, media=media, kind="probe", probe_id=probe.id
        )
    else:
        number = far_end.id
        place_store.change_far_end(db, number, probe.name, far_end.place, addresses[0], how.port, media)
        place_store.set_far_end_key(db, number, how.key)
        place_store.archive_far_end(db, number, archived=False)
    place_store.choose_far_end(db, probe.site_id, number)
    return None
