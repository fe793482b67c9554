"""Opening the one database file, bringing its schema up to date, and writing with one writer at a time."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path

FILE_NAME = "tarnfell.sqlite"
_BUSY_S = 30.0


class SchemaError(RuntimeError):
    """The file is not ours, or newer than this program."""


def now_us() -> int:
    """The one time source of stored records: UTC microseconds."""
    return time.time_ns() // 1000


def open_database(folder: Path) -> sqlite3.Connection:
    """A connection to the database in ``folder``, made and migrated as needed. Raises SchemaError or OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    connection = connect(folder)
    migrate(connection)
    return connection


def connect(folder: Path) -> sqlite3.Connection:
    """A connection without looking at the schema."""
    connection = sqlite3.connect(folder / FILE_NAME, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
    connection.row_factory = sqlite3.Row
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA foreign_keys = ON")
    # An accepted upload must survive the machine, not only the process.
    connection.execute("PRAGMA synchronous = FULL")
    return connection


def migrate(connection: sqlite3.Connection) -> None:
    """Apply every numbered schema step the file has not seen, each whole or not at all."""
    steps = _steps()
    have = connection.execute("PRAGMA user_version").fetchone()[0]
    if have > max(steps):
        raise SchemaError(f"The data was written by a newer Tarnfell (schema {have}). Update this one.")
    for number in sorted(steps):
        if number > have:
            try:
                connection.executescript(f"BEGIN IMMEDIATE;\n{steps[number]}\nPRAGMA user_version = {number};\nCOMMIT;")
            except sqlite3.Error:
                if connection.in_transaction:
                    connection.rollback()
                raise


def _steps() -> dict[int, str]:
    folder = resources.files(__package__).joinpath("schema")
    files = [f for f in folder.iterdir() if f.name.endswith(".sql")]
    return {int(f.name.split("_")[0]): f.read_text(encoding="utf-8") for f in files}


@contextmanager
def writing(connection: sqlite3.Connection) -> Iterator[sqlite3.Connection]:
    """One write transaction: all of it is kept, or nothing."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        yield connection
    except BaseException:
        connection.rollback()
        raise
    connection.commit()
