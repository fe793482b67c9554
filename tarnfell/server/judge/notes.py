"""What people note of a site: of a stretch of its time, a leg, a call."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import require_call, require_note, require_site
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.judge.models.notes import NoteChange, NoteForm, NoteList
from tarnfell.store import notes as note_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site

blueprint = Blueprint("notes", __name__)


@endpoint(blueprint, "GET", "/api/sites/<slug>/notes", response=NoteList)
def list_notes(slug: str) -> NoteList:
    """What was noted of a site."""
    return _list(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/notes", response=NoteList)
def add_note(slug: str, body: NoteForm) -> NoteList:
    """Pin a note to a call or a stretch of time."""
    site = require_site(slug)
    span_us = (body.from_us, body.until_us)
    if body.call_id is not None:
        call = require_call(body.call_id)
        run = run_store.run_by_id(g.db, call.run_id)
        if run.site_id != site.id:
            raise Problem(404, f"{site.name} has no call {body.call_id}.")
        span_us = (call.started_us, call.started_us + round(run.seconds * 1e6))
    elif body.until_us < body.from_us or not body.from_us:
        raise Problem(422, "Say what the note is of: a call, or a stretch of time that ends no sooner than it begins.")
    with writing(g.db):
        note_store.add_note(g.db, site.id, span_us, body.leg, body.call_id, body.words, body.in_report, g.user.id)
    return _list(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/notes/<int:note_id>", response=NoteList)
def change_note(slug: str, note_id: int, body: NoteChange) -> NoteList:
    """Change a note's words, or whether it stands in the report."""
    site = require_site(slug)
    note = require_note(site, note_id)
    with writing(g.db):
        note_store.change_note(g.db, note.id, body.words, body.in_report)
    return _list(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/notes/<int:note_id>", response=NoteList)
def remove_note(slug: str, note_id: int) -> NoteList:
    """Remove a note. Reports that were issued with it keep it."""
    site = require_site(slug)
    note = require_note(site, note_id)
    with writing(g.db):
        note_store.remove_note(g.db, note.id)
    return _list(site)


def _list(site: Site) -> NoteList:
    return NoteList(notes=note_store.notes_of(g.db, site.id))
