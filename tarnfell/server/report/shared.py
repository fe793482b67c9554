"""What somebody with a link sees, without signing in: the report as it was issued, and whether it still stands."""

from __future__ import annotations

from flask import Blueprint, Response, g, request, session

from tarnfell.report.brand import Brand
from tarnfell.report.shared import ask_page, gone_page, shared_page
from tarnfell.server.http import throttle
from tarnfell.server.http.api import Problem, opened_to
from tarnfell.server.http.auth import peer_of
from tarnfell.server.report.issued import file_of, standing
from tarnfell.store import issued as issued_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.hashing import fits
from tarnfell.store.issued import Link
from tarnfell.work.issuing.report import brand_of

blueprint = Blueprint("shared", __name__)

UNLOCKED = "unlocked"
KINDS = {"html": "text/html", "pdf": "application/pdf"}


@blueprint.get("/shared/<code>")
@opened_to("anyone")
def open_link(code: str) -> Response:
    """The report in a frame, under what there is to say of it."""
    link = _good(code)
    if link is None:
        return Response(gone_page(), 404, mimetype="text/html")
    if _is_locked(link):
        return Response(ask_page("", _brand(link)), mimetype="text/html")
    return _shown(link)


@blueprint.post("/shared/<code>")
@opened_to("anyone")
def unlock(code: str) -> Response:
    """The passphrase, from the form; wrong ones are held up as wrong passwords are."""
    link = _good(code)
    if link is None:
        return Response(gone_page(), 404, mimetype="text/html")
    peer = peer_of(request)
    if throttle.is_held(peer, f"link {link.id}"):
        held = ask_page("Too many wrong passphrases. Wait five minutes and try again.", _brand(link))
        return Response(held, 429, mimetype="text/html")
    if _is_locked(link):
        if not fits(request.form.get("passphrase", ""), link.passphrase or ""):
            throttle.note_failure(peer, f"link {link.id}")
            return Response(ask_page("That is not the passphrase.", _brand(link)), 403, mimetype="text/html")
        session[UNLOCKED] = sorted({*session.get(UNLOCKED, []), link.id})
    return _shown(link)


@blueprint.get("/shared/<code>/report.<kind>")
@opened_to("anyone")
def shared_file(code: str, kind: str) -> Response:
    """The page or the PDF, byte by byte as it was issued."""
    link = _good(code)
    if link is None or _is_locked(link) or kind not in KINDS:
        raise Problem(404, "There is nothing at this address.")
    one = issued_store.by_id(g.db, link.issued_id)
    assert one is not None  # a key of the table
    response = Response(file_of(one, kind), mimetype=KINDS[kind])
    response.headers["X-Robots-Tag"] = "noindex"
    if kind == "pdf":
        response.headers["Content-Disposition"] = f'attachment; filename="{one.number}.pdf"'
    return response


def _good(code: str) -> Link | None:
    link = issued_store.link_by_code(g.db, code)
    return link if link and link.is_good(now_us()) else None


def _brand(link: Link) -> Brand:
    one = issued_store.by_id(g.db, link.issued_id)
    assert one is not None  # a key of the table
    return brand_of(g.db, site_store.site_by_id(g.db, one.site_id).engagement_id)


def _is_locked(link: Link) -> bool:
    return link.passphrase is not None and link.id not in session.get(UNLOCKED, [])


def _shown(link: Link) -> Response:
    one = issued_store.by_id(g.db, link.issued_id)
    assert one is not None  # a key of the table
    with writing(g.db):
        issued_store.note_opened(g.db, link.id, peer_of(request))
    site = site_store.site_by_id(g.db, one.site_id)
    page = shared_page(
        site.name, one.number, standing(one), f"/shared/{link.code}", one.pdf_sha256 is not None, _brand(link)
    )
    response = Response(page, mimetype="text/html")
    response.headers["X-Robots-Tag"] = "noindex"
    response.headers["Cache-Control"] = "no-store"
    return response
