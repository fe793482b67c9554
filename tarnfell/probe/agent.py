"""Who a probe is to its server: enrolment, and what it tells of itself."""

from __future__ import annotations

from dataclasses import replace

from tarnfell.probe.http import Refused, ServerClient
from tarnfell.probe.program import program_digest
from tarnfell.probe.state import AgentError, Enrolment, State
from tarnfell.probe.surroundings import surroundings
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.surroundings import Surroundings


def enrol(server: str, code: str, state: State) -> Enrolment:
    """Trade a one-time code for this probe's own secret, and keep it. Raises AgentError or Unreachable."""
    try:
        answer = ServerClient(server).post("/api/probe/enrol", {"token": code, "environment": plain(here())})
    except Refused as error:
        raise AgentError(str(error)) from None
    enrolment = Enrolment(server.rstrip("/"), answer["secret"], answer["name"], answer["site"])
    state.keep_enrolment(enrolment)
    return enrolment


def agent_status(state: State) -> dict[str, object]:
    """Who this probe is and what waits on its disk. Raises AgentError."""
    enrolment = state.enrolment()
    return {
        "name": enrolment.name,
        "site": enrolment.site,
        "server": enrolment.server,
        "waiting_results": len(state.spool.waiting()),
        **plain(here()),
    }


def here() -> Surroundings:
    """What the server should know of this probe and where it stands."""
    return replace(surroundings(), program=program_digest())
