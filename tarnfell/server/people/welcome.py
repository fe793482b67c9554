"""Where links lead that let somebody in: into an engagement, or to a new password."""

from __future__ import annotations

from flask import Blueprint, current_app, g, request

from tarnfell.server.http import throttle
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.auth import peer_of, signed_in_as
from tarnfell.server.http.models.people import Session
from tarnfell.server.people.models.people import EnterForm, ResetAsk, ResetAsked, ResetForm, WelcomePage
from tarnfell.store import engagements as engagement_store
from tarnfell.store import people, welcomes
from tarnfell.store import targets as target_store
from tarnfell.store.db import writing
from tarnfell.work.people import GONE, NotLetIn, WrongPassword, ask_reset, enter, reset_password

blueprint = Blueprint("welcome", __name__)


@endpoint(blueprint, "GET", "/api/welcome/<code>", audience="anyone", response=WelcomePage)
def show_welcome(code: str) -> WelcomePage:
    """What a link lets its reader into."""
    _check_throttle("")
    welcome = welcomes.good(g.db, code)
    if welcome is None:
        throttle.note_failure(peer_of(request), "")
        raise Problem(404, GONE)
    engagement = engagement_store.engagement_by_id(g.db, welcome.engagement_id) if welcome.engagement_id else None
    return WelcomePage(
        kind="invitation" if engagement else "new password",
        email=welcome.email,
        engagement_name=engagement.name if engagement else "",
        role=welcome.role,
        by=welcome.by,
        has_account=people.user_by_email(g.db, welcome.email) is not None,
    )


@endpoint(blueprint, "POST", "/api/welcome/<code>/enter", audience="anyone", response=Session)
def enter_by_link(code: str, body: EnterForm) -> Session:
    """Join by an invitation, with a new account or the one with that address, and be signed in."""
    welcome = welcomes.good(g.db, code)
    email = welcome.email if welcome else ""
    _check_throttle(email)
    try:
        with writing(g.db):
            user = enter(g.db, code, body.name, body.password)
    except WrongPassword as error:
        throttle.note_failure(peer_of(request), email)
        raise Problem(401, str(error)) from None
    except NotLetIn as error:
        throttle.note_failure(peer_of(request), email)
        raise Problem(404, str(error)) from None
    except ValueError as error:
        raise Problem(422, str(error)) from None
    return signed_in_as(user)


@endpoint(blueprint, "POST", "/api/welcome/<code>/password", audience="anyone")
def set_new_password(code: str, body: ResetForm) -> None:
    """Set the new password that a link is for. All sessions of that person end."""
    _check_throttle("")
    try:
        with writing(g.db):
            reset_password(g.db, code, body.password)
    except NotLetIn as error:
        throttle.note_failure(peer_of(request), "")
        raise Problem(404, str(error)) from None
    except ValueError as error:
        raise Problem(422, str(error)) from None


@endpoint(blueprint, "POST", "/api/password-reset", audience="anyone", response=ResetAsked)
def ask_for_reset(body: ResetAsk) -> ResetAsked:
    """Ask for a link to a new password. The answer is the same whoever has that address."""
    # Whatever name the request gives this server, only the operator's is written into a letter.
    address = current_app.config["PUBLIC_ADDRESS"]
    if address is None or target_store.mail_server(g.db) is None:
        raise Problem(409, "This server sends no mail. Whoever runs it can make you a link to a new password.")
    peer = peer_of(request)
    _check_throttle(body.email)
    throttle.note_failure(peer, body.email)  # a letter costs its receiver something, so it is counted as a try
    with writing(g.db):
        ask_reset(g.db, body.email, address.rstrip("/"))
    return ResetAsked(says=f"If there is an account with {body.email}, a letter with a link is on its way there.")


def _check_throttle(name: str) -> None:
    if throttle.is_held(peer_of(request), name):
        raise Problem(429, "Too many tries. Wait five minutes and try again.")
