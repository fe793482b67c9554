"""Causes that people add."""

from __future__ import annotations

from typing import Annotated

from pydantic import StringConstraints

from tarnfell.server.http.models.base import Model
from tarnfell.store.own_causes import OwnCause

Words = Annotated[str, StringConstraints(strip_whitespace=True, max_length=1000)]
Line = Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)]


class OwnCauseForm(Model):
    title: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=200)]
    says: Words = ""
    """How it is known."""
    remedy: Words = ""
    who: Line = ""
    """Acts."""


class OwnCauseList(Model):
    causes: list[OwnCause]
    """In the order in which they were added."""
