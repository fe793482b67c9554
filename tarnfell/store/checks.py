"""What a check of a site is to ask, as somebody wrote it down."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass

from tarnfell.wire.kinds.check import ServiceAsked
from tarnfell.wire.kinds.fields import plain, read


@dataclass(frozen=True)
class Wish:
    """Empty fields are what the probe finds out for itself, or nothing to ask."""

    gateway: str = ""
    edge: str = ""
    outside: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
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
