"""A document that the clerk makes."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.server.http.models.base import Model


class DocumentView(Model):
    id: int
    state: Literal["waiting", "being made", "ready", "failed"]
    words: str
    """What the state means, and what to do about it."""
    held_up: bool
    """Nobody is at work on it."""
    bytes: int | None
    """Of the file, once it is ready."""
    made_us: int | None


class Waiting(Model):
    """An answer that takes too long for a request: the clerk makes it."""

    words: str
    """How far the clerk is, or why it gave up."""
    held_up: bool
    """Nobody is at work on it."""
    given_up: bool
    """It is tried again for whoever asks a minute later."""


class EvidenceQuery(Model):
    """Which fault: of a probe's watch, by its place in the findings."""

    probe: int
    fault: int = Field(ge=0, le=1000)
