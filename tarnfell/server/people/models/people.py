"""People of an engagement, one's own account, and links that let somebody in."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import ConfigDict, Field, StringConstraints

from tarnfell.server.brief.models.engagements import StripHour, VerdictView
from tarnfell.server.http.models.base import EmailText, Model, Paging
from tarnfell.store.issued import IssuedState
from tarnfell.store.letters import LetterState
from tarnfell.store.members import Role


class MemberView(Model):
    user_id: int
    name: str
    email: str
    role: Role
    since_us: int
    you: bool


class InvitedView(Model):
    id: int
    email: str
    role: Role
    by: str
    made_us: int
    expires_us: int
    letter: LetterState | None
    """Null where none was written: the link was handed over otherwise."""
    failure: str
    """Why the letter did not go yet, or went not at all."""


class PeoplePage(Model):
    engagement_slug: str
    engagement_name: str
    may_change: bool
    """Who asks is a consultant of it."""
    live: bool
    """Customers see how the sites stand now."""
    members: list[MemberView]
    invited: list[InvitedView]
    """Open invitations, newest first."""
    mails: bool
    """A mail server is set: invitations go out by themselves."""
    link: str
    """The path of the invitation just made, which is shown once; else empty."""


class RoleForm(Model):
    role: Role


class LiveForm(Model):
    live: bool


class InviteForm(Model):
    email: EmailText
    role: Role


class DeedView(Model):
    at_us: int
    name: str
    email: str
    site: str
    says: str


class TrailQuery(Paging):
    limit: int = Field(50, ge=1, le=200)


class TrailPage(Model):
    total: int
    deeds: list[DeedView]
    """Newest first."""


class SessionView(Model):
    id: int
    began_us: int
    seen_us: int
    """To the minute."""
    peer: str
    browser: str
    this: bool


class AccountPage(Model):
    name: str
    email: str
    sessions: list[SessionView]


class NameForm(Model):
    name: str = Field(min_length=1, max_length=200)


class _Secrets(Model):
    model_config = ConfigDict(str_strip_whitespace=False)  # blanks around a password are part of it


class PasswordForm(_Secrets):
    before: str = Field(min_length=1, max_length=1000)
    password: str = Field(min_length=1, max_length=1000)


class WelcomePage(Model):
    kind: Literal["invitation", "new password"]
    email: str
    engagement_name: str
    """Empty: for a new password."""
    role: Role | None
    by: str
    has_account: bool
    """There is an account with that address: its password is asked for, and no name."""


class EnterForm(_Secrets):
    name: Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)] = ""
    password: str = Field(min_length=1, max_length=1000)


class ResetForm(_Secrets):
    password: str = Field(min_length=1, max_length=1000)


class ResetAsk(Model):
    email: EmailText


class ResetAsked(Model):
    says: str


class ShownReport(Model):
    id: int
    number: str
    issued_us: int
    word: str
    provisional: bool | None
    """Null of reports that were issued before this was kept with them."""
    low: int
    high: int
    state: IssuedState
    replaced_by: str
    withdrawn: str
    has_pdf: bool


class ShownNow(Model):
    """How a site stands now."""

    verdict: VerdictView
    summary: list[str]
    strip: list[StripHour]


class ShownSite(Model):
    name: str
    place: str
    time_zone: str
    issued: list[ShownReport]
    """Newest first."""
    now: ShownNow | None
    """Null where customers see only what was issued."""


class ShownPage(Model):
    engagement_name: str
    summary: str
    live: bool
    sites: list[ShownSite]


class ShownEngagement(Model):
    slug: str
    name: str


class ShownList(Model):
    engagements: list[ShownEngagement]
