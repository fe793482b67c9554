"""In whose name reports are made."""

from __future__ import annotations

from pydantic import Field

from tarnfell.report.brand import MOST_BYTES
from tarnfell.report.locales import OWN, Tag
from tarnfell.server.http.models.base import Model


class BrandForm(Model):
    name: str = Field("", max_length=120)
    contact: str = Field("", max_length=200)
    colour: str = Field("", max_length=7)
    """As #1a2b3c; empty for the reports' own."""
    logo: str | None = Field(None, max_length=2 * MOST_BYTES)
    """A file as base64: PNG, JPEG or SVG; empty for none, null to keep the one that is there."""
    address: str = Field("", max_length=200)
    """As https://voice.example, that links for people outside begin with; empty for the server's own."""
    locale: Tag = OWN
    """Language and country (BCP 47) in whose way dates and numbers are written."""


class LocaleView(Model):
    tag: Tag
    title: str
    example: str


class BrandView(Model):
    engagement_name: str
    name: str
    contact: str
    colour: str
    logo: str
    """As it stands in reports, a ``data:`` address."""
    address: str
    locale: Tag
    locales: list[LocaleView]
    """That may be chosen."""
    site: str | None
    """Whose draft shows it."""
