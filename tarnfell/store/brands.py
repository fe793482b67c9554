"""In whose name an engagement's reports are made."""

from __future__ import annotations

import sqlite3
from dataclasses import astuple, dataclass


@dataclass(frozen=True)
class Brand:
    name: str = ""
    contact: str = ""
    """A line at the report's end."""
    colour: str = ""
    """As #1a2b3c; empty for the reports' own."""
    logo: str = ""
    """A ``data:`` address of a picture that was checked; empty for none."""
    address: str = ""
    """As https://voice.example, that links for people outside begin with; empty for the server's own."""
    locale: str = "en-GB"
    """Language and country (BCP 47) in whose way dates and numbers are written."""


def brand_of(db: sqlite3.Connection, engagement_id: int) -> Brand:
    row = db.execute(
        "SELECT name, contact, colour, logo, address, locale FROM brand WHERE engagement_id = ?", (engagement_id,)
    ).fetchone()
    return Brand(*row) if row else Brand()


def keep_brand(db: sqlite3.Connection, engagement_id: int, brand: Brand) -> None:
    db.execute(
        "INSERT OR REPLACE INTO brand (engagement_id, name, contact, colour, logo, address, locale) "
        "VALUES (?, ?, ?, ?, ?, ?, ?)",
        (engagement_id, *astuple(brand)),
    )
