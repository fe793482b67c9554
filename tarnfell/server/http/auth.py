"""Who asks: people by a session cookie with a CSRF token, probes by their secret, monitoring programs by a token."""

from __future__ import annotations

import hmac
import secrets

from flask import Blueprint, Flask, Request, current_app, g, request, session

from tarnfell.server.http import throttle
from tarnfell.server.http.api import MAX_BODY_BYTES, Problem, endpoint
from tarnfell.server.http.models.people import FirstAccount, NewAccount, Session, SignIn
from tarnfell.store import engagements as engagement_store
from tarnfell.store import first_account as first_code
from tarnfell.store import people
from tarnfell.store import probes as probe_store
from tarnfell.store import targets as target_store
from tarnfell.store.db import writing

blueprint = Blueprint("auth", __name__)


def guard(app: Flask) -> None:
    """Let through what the view's audience allows, and nothing else: a view that names none is closed."""

    @app.before_request
    def _guard() -> None:
        if request.endpoint is None:
            return  # no such address, which anyone is told
        view = app.view_functions[request.endpoint]
        audience = getattr(view, "audience", None)
        if audience == "user":
            _require_user()
        elif audience == "probe":
            _require_probe()
        elif audience == "monitor":
            _require_monitor((request.view_args or {}).get("slug", ""))
        elif audience != "anyone":
            raise Problem(403, "This address is open to nobody.")
        request.max_content_length = getattr(view, "max_body", MAX_BODY_BYTES)


def _require_user() -> None:
    user_id = session.get("user")
    user = people.get_user(g.db, user_id) if isinstance(user_id, int) else None
    if user is None or session.get("mark") != user.mark:
        raise Problem(401, "Sign in first.")
    g.user = user
    if request.method not in ("GET", "HEAD"):
        given = request.headers.get("X-CSRF-Token", "")
        if not hmac.compare_digest(given.encode(), str(session.get("csrf", "")).encode()):
            raise Problem(403, "This request did not come from the signed-in page. Reload and try again.")


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
    return _signed_in(user)


def _signed_in(user: people.User) -> Session:
    session.clear()
    session.permanent = True
    session.update(user=user.id, mark=user.mark, csrf=secrets.token_urlsafe(24))
    return Session(name=user.name, email=user.email, csrf=session["csrf"])


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
    except ValueError as error:
        raise Problem(422, str(error)) from None
    first_code.drop_code(data)
    return _signed_in(user)


@endpoint(blueprint, "GET", "/api/session", response=Session)
def who_am_i() -> Session:
    """Who is signed in."""
    return Session(name=g.user.name, email=g.user.email, csrf=session["csrf"])


@endpoint(blueprint, "DELETE", "/api/session")
def sign_out() -> None:
    """Sign out."""
    session.clear()


def peer_of(request: Request) -> str:
    """Whom a wrong password is counted against.

    Behind a proxy of this machine the last address it wrote down; what came before that the client may have made up.
    """
    peer = request.remote_addr or ""
    if current_app.config["PUBLIC_ADDRESS"] and peer in ("127.0.0.1", "::1"):
        return request.headers.get("X-Forwarded-For", peer).rpartition(",")[2].strip()
    return peer
