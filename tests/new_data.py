"""New databases at once: the steps of the schema are carried out once, and what they come to is copied.

A quarter of a second of each test that begins a data folder would else be those steps. Tests of the steps themselves
put others in their place, and an older database is migrated as ever.
"""

from __future__ import annotations

import sqlite3
from functools import cache

from tarnfell.store import db as database

_migrate, _steps = database.migrate, database._steps


def migrate(connection: sqlite3.Connection) -> None:
    """In the place of ``tarnfell.store.db.migrate``."""
    is_new = connection.execute("SELECT count(*) FROM sqlite_master").fetchone()[0] == 0
    if is_new and database._steps is _steps:
        _made().backup(connection)
    else:
        _migrate(connection)


@cache
def _made() -> sqlite3.Connection:
    made = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
    _migrate(made)
    return made
