"""What stands behind a link for a test from a browser: whose it is, whether it is good, and the way to a far end.

The page reaches the far end by itself; the server hands its offer there, by the far end's key, and the answer back.
"""

from __future__ import annotations

import ipaddress
import secrets
import socket
import threading
import time
from collections import deque

from flask import current_app, g, request

from tarnfell.probe.connect import CallError
from tarnfell.probe.offering import answer_of
from tarnfell.report.locales import localized
from tarnfell.server.http.api import Problem
from tarnfell.server.http.auth import peer_of
from tarnfell.server.place.join import require_invitation
from tarnfell.store import brands as brand_store
from tarnfell.store import browsers as browser_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store.browsers import BrowserLink, Way
from tarnfell.store.db import writing
from tarnfell.store.places import FarEnd
from tarnfell.store.probes import Invitation, Probe
from tarnfell.store.sites import Site
from tarnfell.wire.browser import BrowserCalls
from tarnfell.work.placing.browser_ends import ends_for_browsers
from tarnfell.work.placing.rules import Reason

WAIT_S = 10.0
ASKING = threading.BoundedSemaphore(2)
"""Requests that wait for a far end: others must go on being served."""
TRIPS_A_MINUTE = 3
"""To one far end, by one link: these requests are no job, so nothing else bounds them."""
_lock = threading.Lock()
BUSY = "Something else is being measured at this site at the moment. Try again in a minute or two."
NOT_OPEN = {
    "expired": "This link has expired. Ask whoever sent it for a new one.",
    "revoked": "This link was revoked. If you expected it to work, ask whoever sent it.",
}


def opened(code: str) -> tuple[Invitation, Probe, BrowserLink]:
    """The link's invitation, the browser it is for, and what it asks of it. Raises Problem."""
    invitation = require_invitation(code, "browser")
    probe = probe_store.probe_by_id(g.db, invitation.probe_id)
    link = browser_store.link_of(g.db, probe.id)
    assert link is not None  # made with its probe
    return invitation, probe, link


def good(code: str) -> tuple[Invitation, Probe, BrowserLink]:
    """As ``opened``, of a link by which something may be begun."""
    invitation, probe, link = opened(code)
    if not invitation.good:
        raise Problem(410, NOT_OPEN[state_of(invitation)])
    return invitation, probe, link


def state_of(invitation: Invitation) -> str:
    return "revoked" if invitation.revoked_us is not None else "open" if invitation.good else "expired"


def far_end_offered(site: Site, far_end_id: int) -> FarEnd:
    """Raises Problem."""
    found = next((one for one in ends_for_browsers(g.db, site) if one.id == far_end_id), None)
    if found is None:
        raise Problem(409, "This place to test to is no longer offered. Reload the page.")
    return found


def sockets_taken() -> None:
    """Raises Problem where this server takes no tests over WebSocket."""
    if current_app.config["SOCKET_PORT"] is None:
        raise Problem(409, "This server takes no tests over WebSocket.")


def refuse(site: Site, reason: Reason | None) -> None:
    """Raises Problem, in words for somebody who knows nothing of the site's other tests, with times and figures as the
    readers' country writes them."""
    if reason:
        typed = [one.why for one in site.blackouts]
        words = localized(reason.words, brand_store.brand_of(g.db, site.engagement_id).locale, typed)
        raise Problem(409, BUSY if reason.code == "busy" else words)


def begin(job_id: int, far_end: FarEnd, calls: BrowserCalls, way: Way = "straight") -> str:
    """The far end's answer to the offer in ``calls``, whose packets are waited for from now on. Raises Problem; the job
    has failed then."""
    try:
        answer = answer_from(far_end, calls)
    except Problem as problem:
        with writing(g.db):
            job_store.move(g.db, job_id, "failed", problem.detail)
        raise
    with writing(g.db):
        browser_store.begin(g.db, job_id, calls.token, peer_of(request), way)
    return answer


def new_token() -> str:
    """By which the far end keeps its half."""
    return secrets.token_hex(32)


def not_too_often(probe: Probe, far_end: FarEnd) -> None:
    """Each request takes one of the far end's places for some seconds. Raises Problem."""
    now_s = time.monotonic()
    with _lock:
        trips: dict[tuple[int, int], deque[float]] = current_app.extensions.setdefault("round trips", {})
        asked = trips.setdefault((probe.id, far_end.id), deque(maxlen=TRIPS_A_MINUTE))
        if len(asked) == TRIPS_A_MINUTE and now_s - asked[0] < 60:
            raise Problem(429, "The round trips were measured just now. Try again in a minute.")
        asked.append(now_s)


def answer_from(far_end: FarEnd, calls: BrowserCalls) -> str:
    """The far end's answer to the offer in ``calls``. Raises Problem."""
    if not ASKING.acquire(timeout=WAIT_S):
        raise Problem(503, "Several tests are beginning at this moment. Try again in a minute.")
    try:
        return answer_of(far_end.host, far_end.port, far_end.key, calls)
    except CallError as error:
        raise Problem(502, f"{far_end.name} cannot be tested to now. {error}") from None
    finally:
        ASKING.release()


def address_of(host: str) -> str:
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
