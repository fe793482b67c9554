"""Who asks: people by a session cookie with a CSRF token, probes by their secret."""

from __future__ import annotations

import hmac
import secrets
import threading
import time
from collections import defaultdict, deque

from flask import Blueprint, Flask, current_app, g, request, session

from tarnfell.server.api import ENDPOINTS, Audience, Problem, endpoint
from tarnfell.server.models.people import FirstAccount, NewAccount, Session, SignIn
from tarnfell.store import first_account as first_code
from tarnfell.store import people
from tarnfell.store import probes as probe_store
from tarnfell.store.db import writing

blueprint = Blueprint("auth", __name__)

MAX_FAILURES = 10
FAILURE_WINDOW_S = 300.0
_MAX_WATCHED = 10_000
_failures: dict[str, deque[float]] = defaultdict(deque)
_failures_lock = threading.Lock()
_CODE = "first account"


def guard(app: Flask) -> None:
    """Let through what the endpoint's audience allows, and nothing else."""

    @app.before_request
    def _guard() -> None:
        audience = _audience()
        if audience == "user":
            _require_user()
        elif audience == "probe":
            _require_probe()


def _audience() -> Audience:
    rule = request.url_rule.rule if request.url_rule else ""
    # Flask answers HEAD with the view of GET; it is let in like GET.
    method = "GET" if request.method == "HEAD" else request.method
    for e in ENDPOINTS:
        if e.path == rule and e.method == method:
            return e.audience
    return "anyone"


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


@endpoint(blueprint, "POST", "/api/session", audience="anyone", response=Session)
def sign_in(body: SignIn) -> Session:
    """Sign in."""
    if _too_many(body.email):
        raise Problem(429, "Too many wrong passwords. Wait five minutes and try again.")
    user = people.check_password(g.db, body.email, body.password)
    if user is None:
        with _failures_lock:
            if len(_failures) < _MAX_WATCHED:
                _failures[body.email.lower()].append(time.monotonic())
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
    if _too_many(_CODE):
        raise Problem(429, "Too many wrong codes. Wait five minutes and try again.")
    if people.has_users(g.db):
        raise Problem(409, "There are accounts already. Sign in, or ask whoever runs the server for one.")
    if not first_code.is_code(data, body.code):
        with _failures_lock:
            _failures[_CODE].append(time.monotonic())
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


def _too_many(email: str) -> bool:
    with _failures_lock:
        recent = _failures.get(email.lower())
        if not recent:
            return False
        while recent and recent[0] < time.monotonic() - FAILURE_WINDOW_S:
            recent.popleft()
        if not recent:
            del _failures[email.lower()]
            return False
        return len(recent) >= MAX_FAILURES
