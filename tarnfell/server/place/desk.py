"""The page behind a link for a test from a browser: what it is told, and what it says while the test is on.

Who opens it signs in nowhere; the code in the link is all that is shown.
"""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, current_app, g, request

from tarnfell.core.codecs import find_codec
from tarnfell.core.schedule import from_us
from tarnfell.server.access import browser_job
from tarnfell.server.http.address import address_for
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.auth import peer_of
from tarnfell.server.load.calendar import Entry, serialize
from tarnfell.server.place.desk_link import (
    good,
    opened,
    state_of,
)
from tarnfell.server.place.models.browsers import (
    TestFailed,
    TestFarEnd,
    TestFill,
    TestGoesOn,
    TestPage,
    TestSocket,
)
from tarnfell.server.place.relays import relay_for_test
from tarnfell.server.place.self_runs import as_read_in, self_fills, self_runs
from tarnfell.server.probe_api.models.probes import Done
from tarnfell.store import brands as brand_store
from tarnfell.store import browsers as browser_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import people
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store.browsers import BrowserLink
from tarnfell.store.db import now_us, writing
from tarnfell.store.files import HALVES
from tarnfell.store.sites import Site
from tarnfell.wire import failures
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds.reach import BrowserReach, RelayTried, WebTried
from tarnfell.work.ingest.browsers import MAX_BYTES
from tarnfell.work.placing.browser_ends import ends_for_browsers
from tarnfell.work.placing.browser_plan import fill_plan, plan_of
from tarnfell.work.placing.fill_plan import most_bytes
from tarnfell.work.placing.rules import about_browser_fill

blueprint = Blueprint("desk", __name__)

CHUNK = 1 << 16
ROUNDS = (time(9, 15), time(12, 45), time(16, 30))
"""Morning, noon and evening of a working day."""
WHY = {
    "no-connection": Failure(
        failures.NO_MEDIA,
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
    "no-socket": Failure(
        failures.UNREACHABLE,
        "No WebSocket opened to this server, while it answered web requests: a proxy or firewall of the site lets none "
        "through, or the proxy in front of this server does not pass them on.",
        server_reachable=True,
    ),
    "given-up": Failure(failures.OTHER, "It was given up before it began."),
}
NO_WAY_ON = Failure(
    failures.UNREACHABLE,
    "No media came through the relay: it answered this browser, and within 15 s no packet went on to the far end and "
    "back. The relay must reach the far end’s media ports by UDP.",
    server_reachable=True,
)


@endpoint(blueprint, "GET", "/api/test/<code>", audience="anyone", response=TestPage)
def show_test(code: str) -> TestPage:
    """What a test from this browser will do, and what earlier ones found."""
    invitation, probe, link = opened(code)
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
        colour=brand.colour,
        locale=brand.locale,
        state=state_of(invitation),  # type: ignore[arg-type]
        until_us=invitation.until_us,
        time_zone=site.time_zone,
        codec_title=find_codec(link.codec).title,
        calls=link.calls,
        interval_ms=link.ptime_ms,
        filling=plan.filling,
        seconds=link.seconds,
        fill=_fill_shown(site, link),
        relay=relay_for_test(engagement.id) if invitation.good else None,
        socket=_socket(),
        each_way_kbps=plan.each_way_kbps,
        volume_mb=plan.volume_bytes / 1e6,
        target_mos=site.target_mos,
        far_ends=[
            TestFarEnd(id=one.id, name=one.name, place=one.place, connect_ms=connect_ms)
            for one, connect_ms in ends_for_browsers(g.db, site).items()
        ],
        runs=as_read_in(self_runs(g.db, site, probe.id), brand.locale),
        fills=as_read_in(self_fills(g.db, probe.id), brand.locale),
    )


def _socket() -> TestSocket | None:
    port = current_app.config["SOCKET_PORT"]
    # Whoever gave the server an address has a proxy before it, which passes the path on.
    return TestSocket(port=None if current_app.config["PUBLIC_ADDRESS"] else port) if port else None


def _fill_shown(site: Site, link: BrowserLink) -> TestFill | None:
    if not link.fill_s or about_browser_fill(site):
        return None
    plan = fill_plan(link)
    most = most_bytes(plan, float(site.up_kbps or 0), float(site.down_kbps or 0))
    return TestFill(
        idle_s=plan.idle_s,
        seconds=plan.seconds,
        rest_s=plan.rest_s,
        length_s=plan.length_s,
        streams=plan.streams,
        ways=[way for way in plan.ways if way != "both"],
        volume_mb=most / 1e6 if site.up_kbps and site.down_kbps else None,
    )


@endpoint(blueprint, "GET", "/api/test/<code>/rounds.ics", audience="anyone", produces="text/calendar")
def three_rounds(code: str) -> Response:
    """Three rounds on the next working day at the site, as a calendar file that carries the link."""
    invitation, probe, link = good(code)
    site = site_store.site_by_id(g.db, probe.site_id)
    zone, now = ZoneInfo(site.time_zone), from_us(now_us())
    day = next_open_day(now.astimezone(zone).date(), site.open_days)
    address = f"{address_for(site.engagement_id)}/test/{invitation.code}"
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


@endpoint(blueprint, "POST", "/api/test/<code>/jobs/<int:job_id>/alive", audience="anyone", response=TestGoesOn)
def tell_alive(code: str, job_id: int) -> TestGoesOn:
    """A test from a browser goes on; it is told whether to stop."""
    _, probe, _ = opened(code)
    with writing(g.db):
        job = browser_job(probe, job_id)
        probe_store.keep_contact(g.db, probe.id, None, peer_of(request))
        if job.state == "taken":
            job_store.move(g.db, job.id, "running", "Packets are being sent.")
    return TestGoesOn(stop=job.stop_reason is not None or job.state in ("failed", "done"))


@endpoint(
    blueprint, "PUT", "/api/test/<code>/jobs/<int:job_id>/half", audience="anyone", response=Done, max_body=MAX_BYTES
)
def take_half(code: str, job_id: int) -> Done:
    """The packets of a test as the browser has them. Sending them again changes nothing."""
    _, probe, _ = opened(code)
    job = browser_job(probe, job_id)
    if job.state == "done":
        return Done(state="done")
    half = browser_store.half_of(g.db, job.id)
    if half is None:
        raise Problem(409, "This test is over: its packets are not waited for any more.")
    if half.half_sha256 is not None:
        return Done(state="delivered")
    data = current_app.config["DATA"]
    sha256 = HALVES.keep(data, iter(lambda: request.stream.read(CHUNK), b""))
    with writing(g.db):
        probe_store.keep_contact(g.db, probe.id, None, peer_of(request))
        if browser_store.keep_half(g.db, job.id, sha256):
            job_store.tell(g.db, job.id, "The browser has delivered its packets; the far end is asked for its own.")
    return Done(state="delivered")


@endpoint(blueprint, "POST", "/api/test/<code>/jobs/<int:job_id>/failed", audience="anyone", response=Done)
def fail_test(code: str, job_id: int, body: TestFailed) -> Done:
    """A test that could not begin."""
    _, probe, _ = opened(code)
    with writing(g.db):
        job = browser_job(probe, job_id)
        if job.state in ("taken", "running"):
            by_relay = body.why == "no-connection" and browser_store.way_of(g.db, job.id) == "relay"
            why = NO_WAY_ON if by_relay else WHY[body.why]
            relays = tuple(RelayTried(one.by, one.took_ms, one.code, one.words) for one in body.relays)
            web = (
                WebTried(body.web.median_ms, body.web.most_ms, body.web.answered, body.web.asked) if body.web else None
            )
            if relays or web:
                browser_store.keep_reach(g.db, job.id, BrowserReach(relays=relays, web=web))
            job_store.move(g.db, job.id, "failed", why.reason)
            job_store.keep_failure(g.db, job.id, why)
            browser_store.forget(g.db, job.id)
    return Done(state=browser_job(probe, job_id).state)
