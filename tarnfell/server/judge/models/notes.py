"""Notes that people pin to a stretch of a site's time."""

from __future__ import annotations

from pydantic import Field

from tarnfell.server.http.models.base import LAST_US, Model
from tarnfell.store.notes import Note, NotedLeg

MOST_WORDS = 1000


class NoteList(Model):
    notes: list[Note]
    """In the order of the time that they are of."""


class NoteForm(Model):
    """Of a call, whose time is its own, or of a stretch of time."""

    words: str = Field(min_length=1, max_length=MOST_WORDS)
    call_id: int | None = None
    from_us: int = Field(0, ge=0, le=LAST_US)
    until_us: int = Field(0, ge=0, le=LAST_US)
    leg: NotedLeg = ""
    in_report: bool = True


class NoteChange(Model):
    words: str = Field(min_length=1, max_length=MOST_WORDS)
    in_report: bool
