"""Issued reports of a site: written into, issued, withdrawn, verified, and shared by links."""

from __future__ import annotations

from flask import Blueprint, Response, g

from tarnfell.report.build import decided_words, summary_of
from tarnfell.report.locales import localized
from tarnfell.server.access import is_consultant, require_call, require_issued, require_link, require_site
from tarnfell.server.http.address import address_for, origin_for
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.report.documents import document_view
from tarnfell.server.report.models.issued import (
    ComparedView,
    CompareReportsQuery,
    DraftForm,
    IssuedView,
    LinkForm,
    LinkView,
    ReportsPage,
    SoundChosen,
    SoundForm,
    Verified,
    VerifyForm,
    WithdrawForm,
)
from tarnfell.store import brands as brand_store
from tarnfell.store import calls as call_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import issued as issued_store
from tarnfell.store import letters, people
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import folder_of, now_us, writing
from tarnfell.store.files import ISSUED
from tarnfell.store.issued import Draft, Issued, Link, Opened
from tarnfell.store.sites import Site
from tarnfell.work.closeup.call import can_be_heard
from tarnfell.work.evidence.evaluations import evaluate
from tarnfell.work.issuing.compared import compared
from tarnfell.work.issuing.issue import NotYet, ask_to_issue, asked_to_issue
from tarnfell.work.issuing.recording import call_words
from tarnfell.work.issuing.report import report_is_behind
from tarnfell.work.issuing.share import about_link
from tarnfell.work.issuing.share import share as make_link

blueprint = Blueprint("issued", __name__)

DAY_US = 86_400_000_000
GONE = "A file of this report is missing from the server's data folder. Put it back from a copy of the folder."


@endpoint(blueprint, "GET", "/api/sites/<slug>/reports", response=ReportsPage)
def show_reports(slug: str) -> ReportsPage:
    """What was issued for a site, and what is written for the next report."""
    return _page(require_site(slug))


@endpoint(blueprint, "PUT", "/api/sites/<slug>/report/draft", response=ReportsPage)
def write_draft(slug: str, body: DraftForm) -> ReportsPage:
    """Write the summary or a note of the next report."""
    site = require_site(slug)
    with writing(g.db):
        issued_store.keep_draft(g.db, site.id, Draft(body.summary, body.note), g.user.id)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/report/sound", response=ReportsPage)
def choose_sound(slug: str, body: SoundForm) -> ReportsPage:
    """Choose the call that the next report lets its reader hear, or none."""
    site = require_site(slug)
    if body.call_id is not None:
        call = require_call(body.call_id)
        if run_store.run_by_id(g.db, call.run_id).site_id != site.id:
            raise Problem(422, "That call is another site's.")
        if not can_be_heard(g.db, call, body.direction):
            raise Problem(422, "Of that direction there is nothing to hear: what was sent is not known.")
    with writing(g.db):
        issued_store.keep_sound(g.db, site.id, body.call_id, body.direction, g.user.id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/report/issue", needs="consultant", response=ReportsPage)
def issue_report(slug: str) -> ReportsPage:
    """Issue the report as it is now: numbered, and never changed again. It replaces the one before."""
    site = require_site(slug)
    try:
        ask_to_issue(g.db, site, g.user.id)
    except NotYet as error:
        raise Problem(409, str(error)) from None
    return _page(site)


@endpoint(blueprint, "POST", "/api/issued/<int:issued_id>/withdraw", needs="consultant", response=ReportsPage)
def withdraw_report(issued_id: int, body: WithdrawForm) -> ReportsPage:
    """Say that an issued report does not hold; it stays as it was issued, and whoever opens it is told."""
    one = require_issued(issued_id)
    if one.state == "withdrawn":
        raise Problem(409, f"Report {one.number} was withdrawn before.")
    with writing(g.db):
        issued_store.withdraw(g.db, one.id, body.reason, g.user.id)
    return _page(site_store.site_by_id(g.db, one.site_id))


@endpoint(blueprint, "GET", "/api/issued/<int:issued_id>/report.html", needs="customer", produces="text/html")
def issued_page(issued_id: int) -> Response:
    """An issued report's page."""
    return Response(file_of(require_issued(issued_id), "html"), mimetype="text/html")


@endpoint(blueprint, "GET", "/api/issued/<int:issued_id>/report.json", needs="customer")
def issued_figures(issued_id: int) -> Response:
    """Its figures, of which the page has the SHA-256."""
    return Response(file_of(require_issued(issued_id), "json"), mimetype="application/json")


@endpoint(blueprint, "GET", "/api/issued/<int:issued_id>/report.pdf", needs="customer", produces="application/pdf")
def issued_pdf(issued_id: int) -> Response:
    """The same on paper."""
    one = require_issued(issued_id)
    response = Response(file_of(one, "pdf"), mimetype="application/pdf")
    response.headers["Content-Disposition"] = f'attachment; filename="{one.number}.pdf"'
    return response


@endpoint(blueprint, "GET", "/api/issued/<int:issued_id>/calls.csv", needs="customer", produces="text/csv")
def issued_calls(issued_id: int) -> Response:
    """The calls it rests on, a row a direction."""
    one = require_issued(issued_id)
    if one.calls_sha256 is None:
        raise Problem(404, f"Report {one.number} was issued before calls were kept with reports.")
    response = Response(file_of(one, "csv"), mimetype="text/csv")
    response.headers["Content-Disposition"] = f'attachment; filename="{one.number}-calls.csv"'
    return response


@endpoint(blueprint, "POST", "/api/issued/<int:issued_id>/links", needs="consultant", response=ReportsPage)
def share(issued_id: int, body: LinkForm) -> ReportsPage:
    """Make a link by which an issued report is read without signing in, and mail it where an address is given."""
    one = require_issued(issued_id)
    until_us = now_us() + body.days * DAY_US
    address = address_for(site_store.site_by_id(g.db, one.site_id).engagement_id)
    try:
        with writing(g.db):
            make_link(g.db, one, body.name, body.email, body.passphrase, until_us, g.user, address)
    except ValueError as error:
        raise Problem(409, str(error)) from None
    return _page(site_store.site_by_id(g.db, one.site_id))


@endpoint(
    blueprint, "DELETE", "/api/issued/<int:issued_id>/links/<int:link_id>", needs="consultant", response=ReportsPage
)
def unshare(issued_id: int, link_id: int) -> ReportsPage:
    """End a link."""
    one = require_issued(issued_id)
    link = require_link(one, link_id)
    with writing(g.db):
        issued_store.revoke_link(g.db, link.id)
        letters.take_back(g.db, about_link(link.id))
    return _page(site_store.site_by_id(g.db, one.site_id))


@endpoint(blueprint, "POST", "/api/issued/verify", needs="customer", response=Verified)
def verify(body: VerifyForm) -> Verified:
    """Whether a file is one of a report that was issued here, unchanged."""
    one = issued_store.by_file(g.db, body.sha256)
    if one is None:
        says = "No report that was issued here has this file: it is another one, or was changed."
        return Verified(number="", site_name="", issued_us=None, state=None, says=says)
    site = site_store.site_by_id(g.db, one.site_id)
    return Verified(
        number=one.number, site_name=site.name, issued_us=one.issued_us, state=one.state,
        says=f"This is report {one.number} of {site.name}, unchanged. {standing(one)}".strip(),
    )  # fmt: skip


@endpoint(blueprint, "GET", "/api/issued/compare", needs="customer", response=ComparedView)
def compare_reports(query: CompareReportsQuery) -> ComparedView:
    """Two issued reports side by side: what changed, and whether that is more than chance."""
    first, second = require_issued(query.first), require_issued(query.second)
    try:
        return ComparedView.model_validate(
            compared(file_of(first, "json"), file_of(second, "json"), _calls_of(first), _calls_of(second))
        )
    except (ValueError, KeyError, TypeError) as error:
        raise Problem(422, f"The figures of one of them cannot be read any more: {error}") from None


def _calls_of(one: Issued) -> bytes | None:
    return file_of(one, "csv") if one.calls_sha256 else None


def standing(one: Issued) -> str:
    """What a reader has to be told; empty where the report stands."""
    if one.state == "withdrawn":
        return f"It was withdrawn: {one.withdrawn}"
    if one.state == "replaced":
        newer = issued_store.by_id(g.db, one.replaced_by or 0)
        return f"It was replaced by report {newer.number}." if newer else "It was replaced."
    return ""


def file_of(one: Issued, kind: str) -> bytes:
    """Raises Problem."""
    sha256 = {"html": one.page_sha256, "json": one.data_sha256, "pdf": one.pdf_sha256, "csv": one.calls_sha256}[kind]
    if sha256 is None:
        raise Problem(409, "The PDF is still being made by the server's clerk. Try again in a few seconds.")
    body = ISSUED.read(folder_of(g.db), sha256)
    if body is None:
        raise Problem(410, GONE)
    return body


def _page(site: Site) -> ReportsPage:
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    evaluation = evaluate(g.db, site).evaluation
    draft = issued_store.draft_of(g.db, site.id)
    asked = asked_to_issue(g.db, site.id)
    locale, decided = brand_store.brand_of(g.db, engagement.id).locale, decided_words(evaluation)
    return ReportsPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        may_issue=is_consultant(engagement.id),
        behind=report_is_behind(g.db, site),
        issuing=document_view(asked) if asked else None,
        draft=DraftForm(summary=draft.summary, note=draft.note),
        sound=_sound(site, draft),
        by_itself=[localized(line, locale, decided) for line in summary_of(evaluation)],
        issued=[_view(one, origin_for(site.engagement_id)) for one in issued_store.issued_of(g.db, site.id)],
    )


def _sound(site: Site, draft: Draft) -> SoundChosen | None:
    if draft.sound_call is None:
        return None
    call = call_store.call_by_id(g.db, draft.sound_call)
    return SoundChosen(
        call_id=call.id,
        words=call_words(call, site),
        direction=draft.sound_direction,  # type: ignore[arg-type]  # the table allows no other
        audible=can_be_heard(g.db, call, draft.sound_direction),
    )


def _view(one: Issued, origin: str) -> IssuedView:
    by = people.get_user(g.db, one.issued_by) if one.issued_by is not None else None
    newer = issued_store.by_id(g.db, one.replaced_by) if one.replaced_by else None
    links = issued_store.links_of(g.db, one.id)
    opened = issued_store.opened(g.db, [link.id for link in links])
    return IssuedView(
        id=one.id,
        number=one.number,
        issued_us=one.issued_us,
        issued_by=by.name if by else "",
        word=one.word,
        provisional=None if one.provisional is None else bool(one.provisional),
        low=one.low,
        high=one.high,
        state=one.state,
        replaced_by=newer.number if newer else "",
        withdrawn=one.withdrawn,
        data_sha256=one.data_sha256,
        has_pdf=one.pdf_sha256 is not None,
        has_calls=one.calls_sha256 is not None,
        links=[_link(origin, link, [each for each in opened if each.link_id == link.id]) for link in links],
    )


def _link(origin: str, link: Link, opened: list[Opened]) -> LinkView:
    letter = letters.newest_about(g.db, about_link(link.id))
    return LinkView(
        id=link.id,
        origin=origin,
        path=f"/shared/{link.code}",
        name=link.name,
        has_passphrase=link.passphrase is not None,
        until_us=link.until_us,
        good=link.is_good(now_us()),
        revoked=link.revoked_us is not None,
        opened=len(opened),
        last_opened_us=opened[-1].at_us if opened else None,
        email=letter.address if letter else "",
        letter=letter.state if letter else None,
        failure=(letter.failure if letter else None) or "",
    )
