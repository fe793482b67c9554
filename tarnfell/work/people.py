"""Letting people in: by a link into an engagement, by another to a new password; and the letters that carry them."""

from __future__ import annotations

import sqlite3

from tarnfell.store import letters, members, people, welcomes
from tarnfell.store import targets as target_store
from tarnfell.store.engagements import Engagement
from tarnfell.store.members import Role
from tarnfell.store.people import User
from tarnfell.store.welcomes import Welcome

INVITED, RESET = "/invited/", "/reset/"
"""Where the links lead; the code follows."""


class NotLetIn(Exception):
    """Why, for the person who tries."""


class WrongPassword(NotLetIn):
    pass


def invite(db: sqlite3.Connection, engagement: Engagement, email: str, role: Role, by: User, address: str) -> str:
    """The link's path; a letter carries it where a mail server is set. Raises ValueError for who is a member already.

    ``address`` is this server's, for the letter.
    """
    known = people.user_by_email(db, email)
    if known and members.role_of(db, engagement.id, known.id) is not None:
        raise ValueError(f"{known.name} belongs to this engagement already. Change the role instead.")
    for one in welcomes.open_of(db, engagement.id):
        if one.email.lower() == email.lower():
            letters.take_back(db, f"welcome {one.id}")
    number, code = welcomes.invite(db, engagement.id, email, role, by.id)
    path = f"{INVITED}{code}"
    if target_store.mail_server(db) is not None:
        letters.add(
            db,
            f"welcome {number}",
            email,
            f"{by.name} invites you to {engagement.name}",
            f"{by.name} invites you to {engagement.name} in Tarnfell, as {role}.\n\n"
            f"Open this link within 14 days:\n{address}{path}\n\nIt is good once, and only for this address.\n",
        )
    return path


def enter(db: sqlite3.Connection, code: str, name: str, password: str) -> User:
    """By a link into an engagement: a new account, or one that there is, proved by its password.

    Raises NotLetIn, and ValueError for a password that cannot be.
    """
    welcome = _good(db, code)
    if welcome.engagement_id is None or welcome.role is None:
        raise NotLetIn(GONE)
    known = people.user_by_email(db, welcome.email)
    if known is not None:
        known = people.check_password(db, welcome.email, password)
        if known is None:
            raise WrongPassword(f"There is an account with {welcome.email} already, with another password.")
    user = known or people.add_user(
        db, welcome.email, name or welcome.email, password, outside=welcome.role == "customer"
    )
    # Who has come to belong meanwhile keeps the role that was given then.
    if members.role_of(db, welcome.engagement_id, user.id) is None:
        members.join(db, welcome.engagement_id, user.id, welcome.role)
    welcomes.use(db, welcome.id)
    return people.get_user(db, user.id) or user


def ask_reset(db: sqlite3.Connection, email: str, address: str) -> None:
    """A letter with a link to a new password, where somebody has that address; else nothing, and nobody can tell."""
    user = people.user_by_email(db, email)
    if user is None:
        return
    number, path = reset_path(db, user.email)
    letters.add(
        db,
        f"welcome {number}",
        user.email,
        "A new password for Tarnfell",
        f"Somebody, probably you, asked for a new password for {user.email}.\n\n"
        f"Open this link within an hour:\n{address}{path}\n\nIf it was not you, do nothing: the password stays.\n",
    )


def reset_path(db: sqlite3.Connection, email: str) -> tuple[int, str]:
    """The number and the path of a link to a new password."""
    number, code = welcomes.reset(db, email)
    return number, f"{RESET}{code}"


def reset_password(db: sqlite3.Connection, code: str, password: str) -> None:
    """Ends all sessions of that person. Raises NotLetIn, and ValueError for a password that cannot be."""
    welcome = _good(db, code)
    if welcome.engagement_id is not None:
        raise NotLetIn(GONE)
    try:
        people.set_password(db, welcome.email, password)
    except KeyError:
        raise NotLetIn(GONE) from None
    welcomes.use(db, welcome.id)


GONE = "This link was used, revoked, or has expired. Ask for another one."


def _good(db: sqlite3.Connection, code: str) -> Welcome:
    welcome = welcomes.good(db, code)
    if welcome is None:
        raise NotLetIn(GONE)
    return welcome
