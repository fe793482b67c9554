"""The live bench of a demo."""

from __future__ import annotations

from pydantic import BaseModel, Field

from tarnfell.server.http.models.base import Model
from tarnfell.wire import Unchecked


class BenchTrouble(Model):
    key: str
    title: str
    says: str
    """Where it shows."""


class BenchEntry(BaseModel):
    key: str
    title: str
    says: str
    path: Unchecked
    """As the stand-in path reads it."""


class BenchFile(BaseModel):
    """As the demo writes it into its data folder."""

    site: str
    script: str
    """The file that the path reads."""
    chosen: str
    troubles: tuple[BenchEntry, ...]


class Bench(Model):
    site: str | None
    """Its slug; null where this is no demo."""
    chosen: str
    troubles: list[BenchTrouble]


class BenchChoice(Model):
    key: str = Field(max_length=40)
