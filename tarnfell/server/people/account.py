"""One's own account: name, password, and where one is signed in."""

from __future__ import annotations

from flask import Blueprint, g, request

from tarnfell.server.http import throttle
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.http.auth import peer_of
from tarnfell.server.people.models.people import AccountPage, NameForm, PasswordForm, SessionView
from tarnfell.store import people, sessions
from tarnfell.store.db import writing

blueprint = Blueprint("account", __name__)


@endpoint(blueprint, "GET", "/api/account", needs="customer", response=AccountPage)
def show_account() -> AccountPage:
    """One's own account."""
    return _page()


@endpoint(blueprint, "PUT", "/api/account", needs="customer", response=AccountPage)
def change_account(body: NameForm) -> AccountPage:
    """Change one's name."""
    with writing(g.db):
        people.rename(g.db, g.user.id, body.name)
    g.user = people.get_user(g.db, g.user.id)
    return _page()


@endpoint(blueprint, "PUT", "/api/account/password", needs="customer", response=AccountPage)
def change_password(body: PasswordForm) -> AccountPage:
    """Change one's password. All other sessions end."""
    peer = peer_of(request)
    if throttle.is_held(peer, g.user.email):
        raise Problem(429, "Too many wrong passwords. Wait five minutes and try again.")
    if people.check_password(g.db, g.user.email, body.before) is None:
        throttle.note_failure(peer, g.user.email)
        raise Problem(422, "That is not your password so far.")
    try:
        with writing(g.db):
            people.set_password(g.db, g.user.email, body.password, but=g.signed_in.id)
    except ValueError as error:
        raise Problem(422, str(error)) from None
    return _page()


@endpoint(blueprint, "DELETE", "/api/account/sessions/<int:session_id>", needs="customer", response=AccountPage)
def end_session(session_id: int) -> AccountPage:
    """End one of one's own sessions."""
    if session_id not in {one.id for one in sessions.sessions_of(g.db, g.user.id)}:
        raise Problem(404, f"You have no session {session_id}.")
    with writing(g.db):
        sessions.end(g.db, session_id)
    return _page()


def _page() -> AccountPage:
    return AccountPage(
        name=g.user.name,
        email=g.user.email,
        sessions=[
            SessionView(
                id=one.id,
                began_us=one.began_us,
                seen_us=one.seen_us,
                peer=one.peer,
                browser=one.browser,
                this=one.id == g.signed_in.id,
            )
            for one in sessions.sessions_of(g.db, g.user.id)
        ],
    )
