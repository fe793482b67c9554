"""What a page in a browser begins: calls, the line filled beside one, a few questions for the time; by each way."""

from __future__ import annotations

from flask import Blueprint, g, request

from tarnfell.core.codecs import CodecError
from tarnfell.core.schedule import from_us
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.auth import peer_of
from tarnfell.server.place.desk_link import (
    address_of,
    answer_from,
    begin,
    far_end_offered,
    good,
    new_token,
    not_too_often,
    refuse,
    sockets_taken,
)
from tarnfell.server.place.models.browsers import (
    BeginOverSocket,
    BeginTest,
    SocketBegun,
    TestAnswer,
    TestBegun,
)
from tarnfell.store import browsers as browser_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.browsers import BrowserLink, Way
from tarnfell.store.db import now_us, writing
from tarnfell.store.fills import FillAsked
from tarnfell.store.places import FarEnd
from tarnfell.store.probes import Invitation, Probe
from tarnfell.store.runs import RunSpec
from tarnfell.wire.browser import BrowserCalls, CallsAsked
from tarnfell.wire.kinds.fields import plain
from tarnfell.work.placing.browser_plan import fill_plan, plan_of
from tarnfell.work.placing.metered import within_allowance
from tarnfell.work.placing.rules import against_browser, against_browser_filling

blueprint = Blueprint("desk_begin", __name__)

MOST_NAME = 120
"""Of a run, in characters."""
_FAR_END_ASKED = "The far end is asked."
_AWAITED: dict[Way, str] = {"straight": _FAR_END_ASKED, "relay": _FAR_END_ASKED, "socket": "The page is awaited."}
BY: dict[Way, str] = {"straight": "", "relay": " (by relay)", "socket": " (over WebSocket, to this server)"}


@endpoint(blueprint, "POST", "/api/test/<code>/runs", audience="anyone", response=TestBegun)
def begin_calls(code: str, body: BeginTest) -> TestBegun:
    """Take a browser's offer of calls to a far end."""
    invitation, probe, link = good(code)
    far_end = far_end_offered(site_store.site_by_id(g.db, probe.site_id), body.far_end_id)
    way: Way = "relay" if body.relayed else "straight"
    with writing(g.db):
        run_id = _run_taken(invitation, probe, link, far_end, way)
    calls = BrowserCalls(**vars(_asked(link)), offer=body.offer, token=new_token(), reached_at=address_of(far_end.host))
    return TestBegun(job_id=run_id, answer=begin(run_id, far_end, calls, way))


@endpoint(blueprint, "POST", "/api/test/<code>/socket-runs", audience="anyone", response=SocketBegun)
def begin_over_socket(code: str, body: BeginOverSocket) -> SocketBegun:
    """Calls over a WebSocket to this server, where no UDP came through to a far end."""
    invitation, probe, link = good(code)
    sockets_taken()
    far_end = far_end_offered(site_store.site_by_id(g.db, probe.site_id), body.far_end_id)
    token = new_token()
    with writing(g.db):
        run_id = _run_taken(invitation, probe, link, far_end, "socket")
        browser_store.begin(g.db, run_id, token, peer_of(request), "socket", _asked(link))
    return SocketBegun(job_id=run_id, token=token)


def _asked(link: BrowserLink) -> CallsAsked:
    return CallsAsked(link.calls, link.ptime_ms, plan_of(link).filling, link.seconds)


def _run_taken(invitation: Invitation, probe: Probe, link: BrowserLink, far_end: FarEnd, way: Way) -> int:
    """The number of a run that has begun: from here on nothing else is placed at this site, and a page that is closed
    falls silent. Raises Problem."""
    site = site_store.site_by_id(g.db, probe.site_id)
    spec = RunSpec(
        site_id=site.id,
        probe_id=probe.id,
        far_end_id=far_end.id,
        codec=link.codec,
        ptime_ms=link.ptime_ms,
        calls=link.calls,
        seconds=link.seconds,
        dscp=0,
        asked_by=invitation.invited_by,
    )
    try:
        refuse(site, against_browser(g.db, site, probe, spec, from_us(now_us())))
        run = run_store.add_run(g.db, spec, f"Begun in the browser of {probe.name}.")
    except CodecError as error:
        raise Problem(422, str(error)) from None
    run_store.describe(g.db, run.id, f"Browser, self-run{BY[way]}: {probe.name}"[:MOST_NAME], "")
    probe_store.keep_contact(g.db, probe.id, None, peer_of(request))
    job_store.move(g.db, run.id, "taken", _AWAITED[way])
    return run.id


@endpoint(blueprint, "POST", "/api/test/<code>/round-trips", audience="anyone", response=TestAnswer)
def begin_round_trip(code: str, body: BeginTest) -> TestAnswer:
    """Take a browser's offer of a few questions for the time, by which it finds the nearest far end."""
    _, probe, link = good(code)
    far_end = far_end_offered(site_store.site_by_id(g.db, probe.site_id), body.far_end_id)
    not_too_often(probe, far_end)
    nothing_sent = BrowserCalls(
        offer=body.offer, token=new_token(), calls=1, interval_ms=link.ptime_ms, filling=0, seconds=1.0,
        reached_at=address_of(far_end.host),
    )  # fmt: skip
    return TestAnswer(answer=answer_from(far_end, nothing_sent))


@endpoint(blueprint, "POST", "/api/test/<code>/fills", audience="anyone", response=TestBegun)
def begin_fill(code: str, body: BeginTest) -> TestBegun:
    """Take a browser's offer of the call that it places while it fills the line."""
    invitation, probe, link = good(code)
    far_end = far_end_offered(site_store.site_by_id(g.db, probe.site_id), body.far_end_id)
    way: Way = "relay" if body.relayed else "straight"
    with writing(g.db):
        job_id, asked = _fill_taken(invitation, probe, link, far_end, way)
    calls = BrowserCalls(
        **vars(_beside(link, asked)), offer=body.offer, token=new_token(), reached_at=address_of(far_end.host)
    )
    return TestBegun(job_id=job_id, answer=begin(job_id, far_end, calls, way), most_bytes=asked.plan.most_bytes)


@endpoint(blueprint, "POST", "/api/test/<code>/socket-fills", audience="anyone", response=SocketBegun)
def begin_fill_over_socket(code: str, body: BeginOverSocket) -> SocketBegun:
    """The line filled beside a call over a WebSocket to this server, where no UDP came through to a far end."""
    invitation, probe, link = good(code)
    sockets_taken()
    far_end = far_end_offered(site_store.site_by_id(g.db, probe.site_id), body.far_end_id)
    token = new_token()
    with writing(g.db):
        job_id, asked = _fill_taken(invitation, probe, link, far_end, "socket")
        browser_store.begin(g.db, job_id, token, peer_of(request), "socket", _beside(link, asked))
    return SocketBegun(job_id=job_id, token=token, most_bytes=asked.plan.most_bytes)


def _beside(link: BrowserLink, asked: FillAsked) -> CallsAsked:
    """The one call beside the streams."""
    return CallsAsked(1, link.ptime_ms, plan_of(link).filling, asked.plan.length_s)


def _fill_taken(
    invitation: Invitation, probe: Probe, link: BrowserLink, far_end: FarEnd, way: Way
) -> tuple[int, FillAsked]:
    """As ``_run_taken``, of a fill, and what it may move. Raises Problem."""
    if not link.fill_s:
        raise Problem(409, "This link does not ask for the line to be filled.")
    site, at = site_store.site_by_id(g.db, probe.site_id), from_us(now_us())
    asked = FillAsked(far_end.id, link.codec, link.ptime_ms, fill_plan(link))
    refuse(site, against_browser_filling(g.db, site, probe, asked.plan, at))
    asked = within_allowance(g.db, site, asked, at)
    job_id = job_store.ask(g.db, site.id, probe.id, "fill", invitation.invited_by, plain(asked))
    probe_store.keep_contact(g.db, probe.id, None, peer_of(request))
    job_store.move(g.db, job_id, "taken", _AWAITED[way])
    return job_id, asked
