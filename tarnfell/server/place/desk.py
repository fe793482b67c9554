"""The page behind a link for a test from a browser: what it is told, and what it says while the test is on.

Who opens it signs in nowhere; the code in the link is all that is shown. The page reaches the far end by itself; the
server hands its offer there, by the far end's key, and the answer back.
"""

from __future__ import annotations

import ipaddress
import secrets
import socket
import threading
from datetime import date, datetime, time, timedelta
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, current_app, g, request

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.schedule import from_us
from tarnfell.probe.connect import CallError
from tarnfell.probe.offering import answer_of
from tarnfell.server.access import browser_run
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.calendar import Entry, serialize
from tarnfell.server.place.join import public_address, require_invitation
from tarnfell.server.place.models.browsers import (
    BeginTest,
    TestBegun,
    TestFailed,
    TestFarEnd,
    TestGoesOn,
    TestPage,
)
from tarnfell.server.place.self_runs import self_runs
from tarnfell.server.probe_api.models.probes import Done
from tarnfell.store import brands as brand_store
from tarnfell.store import browsers as browser_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import people
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.browsers import BrowserLink
from tarnfell.store.db import now_us, writing
from tarnfell.store.files import HALVES
from tarnfell.store.places import FarEnd
from tarnfell.store.probes import Invitation, Probe
from tarnfell.store.runs import RunSpec
from tarnfell.wire import failures
from tarnfell.wire.browser import BrowserCalls
from tarnfell.wire.failures import Failure
from tarnfell.work.ingest.browsers import MAX_BYTES
from tarnfell.work.placing.browser_ends import ends_for_browsers
from tarnfell.work.placing.browser_plan import plan_of
from tarnfell.work.placing.rules import against_browser

blueprint = Blueprint("desk", __name__)

CHUNK = 1 << 16
WAIT_S = 10.0
MOST_NAME = 120
"""Of a run, in characters."""
ROUNDS = (time(9, 15), time(12, 45), time(16, 30))
"""Morning, noon and evening of a working day."""
ASKING = threading.BoundedSemaphore(2)
"""Requests that wait for a far end: others must go on being served."""

BUSY = "Something else is being measured at this site at the moment. Try again in a minute or two."
NOT_OPEN = {
    "expired": "This link has expired. Ask whoever sent it for a new one.",
    "revoked": "This link was revoked. If you expected it to work, ask whoever sent it.",
}
WHY = {
    "no-connection": Failure(
        failures.UNREACHABLE,
        "No media came through: within 15 s no UDP packet went to the far end and back, while the web server was "
        "reached. Usually a firewall that lets web traffic out and nothing else: allow UDP to the far end’s media "
        "ports. Where other sites get no media either, look at the far end’s own firewall and address.",
        server_reachable=True,
    ),
    "no-address": Failure(
        failures.OTHER,
        "This browser gives WebRTC no network address, by a setting, an extension or a policy: nothing was tried. Try "
        "another browser.",
    ),
    "given-up": Failure(failures.OTHER, "It was given up before it began."),
}


@endpoint(blueprint, "GET", "/api/test/<code>", audience="anyone", response=TestPage)
def show_test(code: str) -> TestPage:
    """What a test from this browser will do, and what earlier ones found."""
    invitation, probe, link = _opened(code)
    if invitation.opened_us is None and invitation.good:
        with writing(g.db):
            probe_store.note_invitation(g.db, invitation, "opened")
    site = site_store.site_by_id(g.db, probe.site_id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    brand = brand_store.brand_of(g.db, engagement.id)
    inviter = people.get_user(g.db, invitation.invited_by) if invitation.invited_by else None
    plan = plan_of(link)
    return TestPage(
        site=site.name,
        test_point=probe.test_point,
        name=probe.name,
        engagement=engagement.name,
        from_whom=inviter.name if inviter else "your consultant",
        brand=brand.name,
        contact=brand.contact,
        logo=brand.logo,
        state=_state(invitation),  # type: ignore[arg-type]
        until_us=invitation.until_us,
        time_zone=site.time_zone,
        codec_title=find_codec(link.codec).title,
        calls=link.calls,
        interval_ms=link.ptime_ms,
        filling=plan.filling,
        seconds=link.seconds,
        each_way_kbps=plan.each_way_kbps,
        volume_mb=plan.volume_bytes / 1e6,
        target_mos=site.target_mos,
        far_ends=[
            TestFarEnd(id=one.id, name=one.name, place=one.place, connect_ms=connect_ms)
            for one, connect_ms in ends_for_browsers(g.db, site).items()
        ],
        runs=self_runs(g.db, site, probe.id),
    )


@endpoint(blueprint, "GET", "/api/test/<code>/rounds.ics", audience="anyone", produces="text/calendar")
def three_rounds(code: str) -> Response:
    """Three rounds on the next working day at the site, as a calendar file that carries the link."""
    invitation, probe, link = _opened(code)
    if not invitation.good:
        raise Problem(410, NOT_OPEN[_state(invitation)])
    site = site_store.site_by_id(g.db, probe.site_id)
    zone, now = ZoneInfo(site.time_zone), from_us(now_us())
    day = next_open_day(now.astimezone(zone).date(), site.open_days)
    address = f"{public_address()}/test/{invitation.code}"
    entries = [
        Entry(
            uid=f"{invitation.id}-{number}@{urlsplit(address).hostname}",
            title=f"Test calls from {probe.test_point}",
            words=f"Open {address} on the computer at {probe.test_point} and press “Test again”. "
            f"It takes {link.seconds:g} seconds.",
            start=datetime.combine(day, at, zone),
            length=timedelta(minutes=5),
            rule=None,
        )
        for number, at in enumerate(ROUNDS, 1)
    ]
    headers = {"Content-Disposition": 'attachment; filename="test-calls.ics"'}
    return Response(serialize(site.name, zone, entries, now), mimetype="text/calendar", headers=headers)


def next_open_day(today: date, open_days: str) -> date:
    """The first after today on which people work; tomorrow where none is told."""
    days = [today + timedelta(days=ahead) for ahead in range(1, 8)]
    return next((day for day in days if str(day.isoweekday()) in open_days), days[0])


@endpoint(blueprint, "POST", "/api/test/<code>/runs", audience="anyone", response=TestBegun)
def begin_test(code: str, body: BeginTest) -> TestBegun:
    """Take a browser's offer to a far end."""
    invitation, probe, link = _opened(code)
    if not invitation.good:
        raise Problem(410, NOT_OPEN[_state(invitation)])
    site = site_store.site_by_id(g.db, probe.site_id)
    far_end = next((one for one in ends_for_browsers(g.db, site) if one.id == body.far_end_id), None)
    spec = RunSpec(
        site_id=site.id,
        probe_id=probe.id,
        far_end_id=far_end.id if far_end else 0,
        codec=link.codec,
        ptime_ms=link.ptime_ms,
        calls=link.calls,
        seconds=link.seconds,
        dscp=0,
        asked_by=invitation.invited_by,
    )
    if far_end is None:
        raise Problem(409, "This place to test to is no longer offered. Reload the page.")
    try:
        with writing(g.db):
            reason = against_browser(g.db, site, probe, spec, from_us(now_us()))
            if reason:
                raise Problem(409, BUSY if reason.code == "busy" else reason.words)
            run = run_store.add_run(g.db, spec, f"Begun in the browser of {probe.name}.")
            run_store.describe(g.db, run.id, f"Browser, self-run: {probe.name}"[:MOST_NAME], "")
            # From here on nothing else is placed at this site; a page that is closed now falls silent.
            probe_store.keep_contact(g.db, probe.id, None, request.remote_addr)
            job_store.move(g.db, run.id, "taken", "The far end is asked.")
    except CodecError as error:
        raise Problem(422, str(error)) from None
    token = secrets.token_hex(32)
    try:
        answer = _answer_of(far_end, link, token, body.offer)
    except Problem as problem:
        with writing(g.db):
            job_store.move(g.db, run.id, "failed", problem.detail)
        raise
    with writing(g.db):
        browser_store.begin(g.db, run.id, token)
    return TestBegun(run_id=run.id, answer=answer)


@endpoint(blueprint, "POST", "/api/test/<code>/runs/<int:run_id>/alive", audience="anyone", response=TestGoesOn)
def tell_alive(code: str, run_id: int) -> TestGoesOn:
    """A test from a browser goes on; it is told whether to stop."""
    _, probe, _ = _opened(code)
    with writing(g.db):
        run = browser_run(probe, run_id)
        probe_store.keep_contact(g.db, probe.id, None, request.remote_addr)
        if run.state == "taken":
            job_store.move(g.db, run.id, "running", "Packets are being sent.")
    return TestGoesOn(stop=run.stop_reason is not None or run.state in ("failed", "done"))


@endpoint(
    blueprint, "PUT", "/api/test/<code>/runs/<int:run_id>/half", audience="anyone", response=Done, max_body=MAX_BYTES
)
def take_half(code: str, run_id: int) -> Done:
    """The packets of a test as the browser has them. Sending them again changes nothing."""
    _, probe, _ = _opened(code)
    run = browser_run(probe, run_id)
    if run.state == "done":
        return Done(state="done")
    open_run = browser_store.run_of(g.db, run.id)
    if open_run is None:
        raise Problem(409, "This test is over: its packets are not waited for any more.")
    if open_run.half_sha256 is not None:
        return Done(state="delivered")
    data = current_app.config["DATA"]
    sha256 = HALVES.keep(data, iter(lambda: request.stream.read(CHUNK), b""))
    with writing(g.db):
        probe_store.keep_contact(g.db, probe.id, None, request.remote_addr)
        if browser_store.keep_half(g.db, run.id, sha256):
            job_store.tell(g.db, run.id, "The browser has delivered its packets; the far end is asked for its own.")
    return Done(state="delivered")


@endpoint(blueprint, "POST", "/api/test/<code>/runs/<int:run_id>/failed", audience="anyone", response=Done)
def fail_test(code: str, run_id: int, body: TestFailed) -> Done:
    """A test that could not begin."""
    _, probe, _ = _opened(code)
    with writing(g.db):
        run = browser_run(probe, run_id)
        if run.state in ("taken", "running"):
            why = WHY[body.why]
            job_store.move(g.db, run.id, "failed", why.reason)
            job_store.keep_failure(g.db, run.id, why)
            browser_store.forget(g.db, run.id)
    return Done(state=browser_run(probe, run_id).state)


def _opened(code: str) -> tuple[Invitation, Probe, BrowserLink]:
    invitation = require_invitation(code, "browser")
    probe = probe_store.probe_by_id(g.db, invitation.probe_id)
    link = browser_store.link_of(g.db, probe.id)
    assert link is not None  # made with its probe
    return invitation, probe, link


def _state(invitation: Invitation) -> str:
    return "revoked" if invitation.revoked_us is not None else "open" if invitation.good else "expired"


def _answer_of(far_end: FarEnd, link: BrowserLink, token: str, offer: str) -> str:
    """The far end's answer to an offer. Raises Problem."""
    asked = BrowserCalls(
        offer=offer, token=token, calls=link.calls, interval_ms=link.ptime_ms, filling=plan_of(link).filling,
        seconds=link.seconds, reached_at=_address_of(far_end.host),
    )  # fmt: skip
    if not ASKING.acquire(timeout=WAIT_S):
        raise Problem(503, "Several tests are beginning at this moment. Try again in a minute.")
    try:
        return answer_of(far_end.host, far_end.port, far_end.key, asked)
    except CallError as error:
        raise Problem(502, f"{far_end.name} cannot be tested to now. {error}") from None
    finally:
        ASKING.release()


def _address_of(host: str) -> str:
    """By which a browser reaches the far end; nothing where that is this machine itself, or cannot be looked up."""
    try:
        address = ipaddress.ip_address(socket.gethostbyname(host) if not _is_address(host) else host)
    except OSError:
        return ""
    return "" if address.is_loopback else str(address)


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True
