"""Who asks: people by a session cookie with a CSRF token, probes by their secret, monitoring programs by a token."""

from __future__ import annotations

import hmac
import logging
import secrets
import sqlite3

from flask import Blueprint, Flask, Request, Response, current_app, g, request, session

from tarnfell.server.http import throttle
from tarnfell.server.http.api import MAX_BODY_BYTES, Problem, endpoint
from tarnfell.server.http.models.people import FirstAccount, NewAccount, Session, SignIn
from tarnfell.store import deeds, members, people, sessions
from tarnfell.store import engagements as engagement_store
from tarnfell.store import first_account as first_code
from tarnfell.store import probes as probe_store
from tarnfell.store import targets as target_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.members import Role

blueprint = Blueprint("auth", __name__)
log = logging.getLogger(__name__)


def guard(app: Flask) -> None:
    """Let through what the view's audience allows, and nothing else: a view that names none is closed."""

    @app.before_request
    def _guard() -> None:
        if request.endpoint is None:
            return  # no such address, which anyone is told
        view = app.view_functions[request.endpoint]
        audience = getattr(view, "audience", None)
        if audience == "user":
            _require_user(getattr(view, "needs", "consultant"))
        elif audience == "probe":
            _require_probe()
        elif audience == "monitor":
            _require_monitor((request.view_args or {}).get("slug", ""))
        elif audience != "anyone":
            raise Problem(403, "This address is open to nobody.")
        request.max_content_length = getattr(view, "max_body", MAX_BODY_BYTES)

    @app.after_request
    def _note_deed(response: Response) -> Response:
        """What a person has written is theirs on the trail; what only computes or fails is no deed."""
        if "changes_before" in g and response.status_code < 400 and g.db.total_changes > g.changes_before:
            says = getattr(app.view_functions[request.endpoint or ""], "summary", "").partition(".")[0]
            try:
                with writing(g.db):
                    deeds.note(g.db, g.user.id, g.get("engagement_id"), g.get("site_id"), says, request.path)
            except sqlite3.Error:
                log.exception("missing on the trail: user %s, %s %s", g.user.id, request.method, request.path)
        return response


def _require_user(needs: Role) -> None:
    key = session.get("key")
    signed_in = sessions.session_by_key(g.db, key) if isinstance(key, str) else None
    user = people.get_user(g.db, signed_in.user_id) if signed_in else None
    if signed_in is None or user is None:
        raise Problem(401, "Sign in first.")
    g.user, g.signed_in, g.needs = user, signed_in, needs
    if request.method not in ("GET", "HEAD"):
        given = request.headers.get("X-CSRF-Token", "")
        if not hmac.compare_digest(given.encode(), str(session.get("csrf", "")).encode()):
            raise Problem(403, "This request did not come from the signed-in page. Reload and try again.")
    if user.outside and needs != "customer":
        raise Problem(403, "Your account reads reports and what is shown to customers, and no more.")
    if now_us() - signed_in.seen_us > sessions.NOTED_EACH_US:
        _note_seen(signed_in.id)
    if request.method not in ("GET", "HEAD"):
        g.changes_before = g.db.total_changes


def _note_seen(session_id: int) -> None:
    """A disk that cannot be written to keeps nobody from reading."""
    try:
        with writing(g.db):
            sessions.note_seen(g.db, session_id)
    except sqlite3.Error as error:
        log.warning("when session %s was last seen is not kept: %s", session_id, error)


def _require_probe() -> None:
    kind, _, secret = request.headers.get("Authorization", "").partition(" ")
    probe = probe_store.probe_by_secret(g.db, secret) if kind == "Bearer" and secret else None
    if probe is None:
        raise Problem(401, "This probe is not known here. Enrol it again from the site's page.")
    g.probe = probe


def _require_monitor(slug: str) -> None:
    """Of an engagement that there is not, the answer is the same as to a token that is none."""
    kind, _, token = request.headers.get("Authorization", "").partition(" ")
    engagement = engagement_store.engagement_by_slug(g.db, slug)
    known = engagement is not None and kind == "Bearer" and target_store.is_metrics_token(g.db, engagement.id, token)
    if not known:
        raise Problem(401, "This token opens no figures here. Make a new one on the engagement's page of alerts.")
    g.engagement = engagement


@endpoint(blueprint, "POST", "/api/session", audience="anyone", response=Session)
def sign_in(body: SignIn) -> Session:
    """Sign in."""
    peer = peer_of(request)
    if throttle.is_held(peer, body.email):
        raise Problem(429, "Too many wrong passwords. Wait five minutes and try again.")
    user = people.check_password(g.db, body.email, body.password)
    if user is None:
        throttle.note_failure(peer, body.email)
        raise Problem(401, "Wrong email address or password.")
    return signed_in_as(user)


def signed_in_as(user: people.User) -> Session:
    """A session of its own: nothing of the one before is left."""
    session.clear()
    session.permanent = True
    with writing(g.db):
        key = sessions.begin(g.db, user.id, peer_of(request), request.headers.get("User-Agent", ""))
    session.update(key=key, csrf=secrets.token_urlsafe(24))
    return _view(user)


def _view(user: people.User) -> Session:
    return Session(name=user.name, email=user.email, outside=user.outside, csrf=session["csrf"])


@endpoint(blueprint, "GET", "/api/first-account", audience="anyone", response=FirstAccount)
def first_account() -> FirstAccount:
    """Whether nobody can sign in yet, so that the first account is to be made."""
    return FirstAccount(wanted=not people.has_users(g.db))


@endpoint(blueprint, "POST", "/api/first-account", audience="anyone", response=Session)
def make_first_account(body: NewAccount) -> Session:
    """Make the first account, by the one-time code that the server printed."""
    data = current_app.config["DATA"]
    peer = peer_of(request)
    if throttle.is_held(peer, ""):
        raise Problem(429, "Too many wrong codes. Wait five minutes and try again.")
    if people.has_users(g.db):
        raise Problem(409, "There are accounts already. Sign in, or ask whoever runs the server for one.")
    if not first_code.is_code(data, body.code):
        throttle.note_failure(peer, "")
        raise Problem(403, "That is not the code the server printed when it started.")
    try:
        with writing(g.db):
            if people.has_users(g.db):
                raise Problem(409, "Somebody else has just made the first account.")
            user = people.add_user(g.db, body.email, body.name or body.email, body.password)
            members.adopt(g.db, user.id)
    except ValueError as error:
        raise Problem(422, str(error)) from None
    first_code.drop_code(data)
    return signed_in_as(user)


@endpoint(blueprint, "GET", "/api/session", needs="customer", response=Session)
def who_am_i() -> Session:
    """Who is signed in."""
    return _view(g.user)


@endpoint(blueprint, "DELETE", "/api/session", needs="customer")
def sign_out() -> None:
    """Sign out."""
    with writing(g.db):
        sessions.end(g.db, g.signed_in.id)
    session.clear()


def peer_of(request: Request) -> str:
    """Who asks: whom a wrong password is counted against, and where a browser that tests comes from.

    Behind a proxy of this machine the last address it wrote down; what came before that the client may have made up.
    """
    peer = request.remote_addr or ""
    if current_app.config["PUBLIC_ADDRESS"] and peer in ("127.0.0.1", "::1"):
        return request.headers.get("X-Forwarded-For", peer).rpartition(",")[2].strip()
    return peer
