"""Who belongs to an engagement, and who is invited to it."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import is_consultant, require_engagement, require_invited, require_member
from tarnfell.server.http.address import address_here
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.people.models.people import InvitedView, InviteForm, LiveForm, MemberView, PeoplePage, RoleForm
from tarnfell.store import engagements as engagement_store
from tarnfell.store import letters, members, welcomes
from tarnfell.store import targets as target_store
from tarnfell.store.db import writing
from tarnfell.store.engagements import Engagement
from tarnfell.store.members import LastConsultant
from tarnfell.store.welcomes import Welcome
from tarnfell.work.people import invite

blueprint = Blueprint("members", __name__)

LAST = "An engagement needs a consultant. Make somebody else one first."


@endpoint(blueprint, "GET", "/api/engagements/<slug>/people", response=PeoplePage)
def show_people(slug: str) -> PeoplePage:
    """Who belongs to an engagement, and who is invited."""
    return _page(require_engagement(slug))


@endpoint(
    blueprint, "PUT", "/api/engagements/<slug>/people/<int:user_id>", needs="consultant", response=PeoplePage
)  # fmt: skip
def change_role(slug: str, user_id: int, body: RoleForm) -> PeoplePage:
    """Give a member another role."""
    engagement = require_engagement(slug)
    member = require_member(engagement, user_id)
    try:
        with writing(g.db):
            members.join(g.db, engagement.id, member.user_id, body.role)
    except LastConsultant:
        raise Problem(409, LAST) from None
    return _page(engagement)


@endpoint(
    blueprint, "DELETE", "/api/engagements/<slug>/people/<int:user_id>", needs="consultant", response=PeoplePage
)  # fmt: skip
def remove_member(slug: str, user_id: int) -> PeoplePage:
    """Remove a member; the account and what was done stay."""
    engagement = require_engagement(slug)
    member = require_member(engagement, user_id)
    if member.user_id == g.user.id:
        raise Problem(409, "You cannot remove yourself. Another consultant of the engagement can.")
    try:
        with writing(g.db):
            members.leave(g.db, engagement.id, member.user_id)
    except LastConsultant:
        raise Problem(409, LAST) from None
    return _page(engagement)


@endpoint(blueprint, "POST", "/api/engagements/<slug>/invitations", needs="consultant", response=PeoplePage)
def invite_somebody(slug: str, body: InviteForm) -> PeoplePage:
    """Invite somebody. The link is mailed where a mail server is set, and shown once in any case."""
    engagement = require_engagement(slug)
    try:
        with writing(g.db):
            link = invite(g.db, engagement, body.email, body.role, g.user, address_here())
    except ValueError as error:
        raise Problem(409, str(error)) from None
    return _page(engagement, link)


@endpoint(
    blueprint, "DELETE", "/api/engagements/<slug>/invitations/<int:welcome_id>", needs="consultant",
    response=PeoplePage,
)  # fmt: skip
def revoke_invitation(slug: str, welcome_id: int) -> PeoplePage:
    """Revoke an invitation."""
    engagement = require_engagement(slug)
    welcome = require_invited(engagement, welcome_id)
    with writing(g.db):
        welcomes.revoke(g.db, welcome.id)
        letters.take_back(g.db, f"welcome {welcome.id}")
    return _page(engagement)


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/live", needs="consultant", response=PeoplePage)
def show_live(slug: str, body: LiveForm) -> PeoplePage:
    """Show customers how the sites stand now, or only what was issued."""
    engagement = require_engagement(slug)
    with writing(g.db):
        engagement_store.show_live(g.db, engagement.id, body.live)
    return _page(engagement_store.engagement_by_id(g.db, engagement.id))


def _page(engagement: Engagement, link: str = "") -> PeoplePage:
    return PeoplePage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        may_change=is_consultant(engagement.id),
        live=engagement.live,
        members=[
            MemberView(**vars(one), you=one.user_id == g.user.id) for one in members.members_of(g.db, engagement.id)
        ],
        invited=[_invited(one) for one in welcomes.open_of(g.db, engagement.id)],
        mails=target_store.mail_server(g.db) is not None,
        link=link,
    )


def _invited(one: Welcome) -> InvitedView:
    assert one.role is not None  # of those into an engagement
    letter = letters.newest_about(g.db, f"welcome {one.id}")
    return InvitedView(
        id=one.id,
        email=one.email,
        role=one.role,
        by=one.by,
        made_us=one.made_us,
        expires_us=one.expires_us,
        letter=letter.state if letter else None,
        failure=(letter.failure if letter else None) or "",
    )
