"""A link to an issued report, and the letter that carries it."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.report.locales import localized
from tarnfell.store import brands as brand_store
from tarnfell.store import issued as issued_store
from tarnfell.store import letters
from tarnfell.store import sites as site_store
from tarnfell.store import targets as target_store
from tarnfell.store.issued import Issued
from tarnfell.store.people import User

SHARED = "/shared/"
NO_MAIL = "No mail server is set, so nothing can be mailed. Leave the address empty and hand the link over yourself."


def about_link(link_id: int) -> str:
    """What a letter with it is about."""
    return f"link {link_id}"


def share(
    db: sqlite3.Connection, one: Issued, name: str, email: str, passphrase: str, until_us: int, by: User, address: str
) -> None:
    """An empty email: nothing is mailed. The passphrase never is. Raises ValueError where there is no mail server."""
    link_id, code = issued_store.add_link(db, one.id, name, passphrase, until_us, by.id)
    if not email:
        return
    if target_store.mail_server(db) is None:
        raise ValueError(NO_MAIL)
    site = site_store.site_by_id(db, one.site_id)
    until = datetime.fromtimestamp(until_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    day = localized(f"{until:%d %B %Y}", brand_store.brand_of(db, site.engagement_id).locale)
    letters.add(
        db,
        about_link(link_id),
        email,
        f"Report {one.number}: {site.name}",
        f"{by.name} shares report {one.number} of {site.name} with you.\n\n"
        f"Read it here until {day}:\n{address}{SHARED}{code}\n"
        + (f"\nIt asks for a passphrase, which {by.name} tells you by another way.\n" if passphrase else ""),
    )
