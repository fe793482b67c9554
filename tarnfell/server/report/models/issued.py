"""Reports that were issued, and what a consultant writes into the next."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.server.http.models.base import EmailText, Model
from tarnfell.server.report.models.documents import DocumentView
from tarnfell.store.issued import IssuedState
from tarnfell.store.letters import LetterState
from tarnfell.work.issuing.compared import ComparedCause, ComparedSide, ComparedState


class DraftForm(Model):
    summary: str = Field("", max_length=3000)
    """A sentence a line; empty: the report says it by itself."""
    note: str = Field("", max_length=6000)


class SoundForm(Model):
    call_id: int | None
    """Null: no call is heard."""
    direction: Literal["up", "down"] = "up"


class SoundChosen(Model):
    call_id: int
    words: str
    """Which call, and when, in site time."""
    direction: Literal["up", "down"]
    audible: bool
    """Whether there is anything to hear of it; the report says nothing of one that is not."""


class LinkView(Model):
    id: int
    origin: str
    """That the path is of; empty for the one by which this is read."""
    path: str
    name: str
    has_passphrase: bool
    until_us: int
    good: bool
    revoked: bool
    opened: int
    last_opened_us: int | None
    email: str
    """It was mailed to; empty where it was not."""
    letter: LetterState | None
    failure: str
    """Why the letter did not go yet, or went not at all."""


class IssuedView(Model):
    id: int
    number: str
    issued_us: int
    issued_by: str
    """Empty where nobody is known any more."""
    word: str
    provisional: bool | None
    """Null of reports that were issued before this was kept with them."""
    low: int
    high: int
    state: IssuedState
    replaced_by: str
    """The number of that report; empty where there is none."""
    withdrawn: str
    """Why."""
    data_sha256: str
    has_pdf: bool
    has_calls: bool
    links: list[LinkView]


class ReportsPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    may_issue: bool
    """Who asks may issue, withdraw and share."""
    behind: bool
    """Evidence is still being judged: none can be issued just now."""
    issuing: DocumentView | None
    """The one asked for last, as long as it has not been issued."""
    draft: DraftForm
    sound: SoundChosen | None
    """The call that the report lets its reader hear."""
    by_itself: list[str]
    """The summary that the report gives where nothing is written."""
    issued: list[IssuedView]
    """Newest first."""


class CompareReportsQuery(Model):
    first: int = Field(ge=1, le=2**62)
    second: int = Field(ge=1, le=2**62)


class ComparedView(Model):
    first: ComparedSide
    second: ComparedSide
    says: str
    """Of acceptable calls in business hours, with whether it is more than chance."""
    states: list[ComparedState]
    """Of the requirements, those that changed first; empty: that report has no such requirement."""
    causes: list[ComparedCause]
    cautions: list[str]


class WithdrawForm(Model):
    reason: str = Field(min_length=3, max_length=500)


class LinkForm(Model):
    name: str = Field(min_length=1, max_length=120)
    """Whom it is for."""
    email: EmailText | Literal[""] = ""
    """Where it is mailed to; empty: nowhere."""
    days: int = Field(30, ge=1, le=365)
    passphrase: str = Field("", max_length=200)


class VerifyForm(Model):
    sha256: str = Field(pattern=r"^[0-9a-f]{64}$")
    """Of a file: it is computed where the file is."""


class Verified(Model):
    number: str
    """Empty where no report that was issued here has such a file."""
    site_name: str
    issued_us: int | None
    state: IssuedState | None
    says: str
