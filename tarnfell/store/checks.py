"""What a check of a site is to ask, as somebody wrote it down."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass

from tarnfell.core.check.values import USUAL, Limits
from tarnfell.wire.kinds.check import ServiceAsked
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.signalling import SipAccount

MOST_SHARED, MOST_OWN = 400, 100
"""Services of an engagement and of a site; together no more than a check asks (wire/kinds/check.py: MAX_SERVICES)."""


@dataclass(frozen=True)
class Wish:
    """Empty fields are what the probe finds out for itself, or nothing to ask."""

    gateway: str = ""
    edge: str = ""
    outside: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    services: tuple[ServiceAsked, ...] = ()
    """Beside those of the engagement."""
    limits: Limits = USUAL
    account: SipAccount | None = None
    """At the customer's own registrar."""


@dataclass(frozen=True)
class ServiceList:
    services: tuple[ServiceAsked, ...] = ()


@dataclass(frozen=True)
class Asked:
    """What the job of a check says of itself; the rest is made when it is given out."""

    far_end_id: int


def wish_of(db: sqlite3.Connection, site_id: int) -> Wish:
    row = db.execute("SELECT wish FROM check_wish WHERE site_id = ?", (site_id,)).fetchone()
    return read(Wish, json.loads(row["wish"])) if row else Wish()


def keep_wish(db: sqlite3.Connection, site_id: int, wish: Wish) -> None:
    db.execute(
        "INSERT INTO check_wish (site_id, wish) VALUES (?, ?) ON CONFLICT (site_id) DO UPDATE SET wish = excluded.wish",
        (site_id, json.dumps(plain(wish))),
    )


def services_of(db: sqlite3.Connection, engagement_id: int) -> tuple[ServiceAsked, ...]:
    """Those that every site of an engagement asks."""
    row = db.execute("SELECT services FROM service_list WHERE engagement_id = ?", (engagement_id,)).fetchone()
    return read(ServiceList, json.loads(row["services"])).services if row else ()


def keep_services(db: sqlite3.Connection, engagement_id: int, services: tuple[ServiceAsked, ...]) -> None:
    db.execute(
        "INSERT INTO service_list (engagement_id, services) VALUES (?, ?)"
        " ON CONFLICT (engagement_id) DO UPDATE SET services = excluded.services",
        (engagement_id, json.dumps(plain(ServiceList(services)))),
    )
