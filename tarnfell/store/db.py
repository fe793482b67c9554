"""Opening the one database file, bringing its schema up to date, and writing with one writer at a time."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path

from tarnfell.store.lock import ROLES, other_holder

FILE_NAME = "tarnfell.sqlite"
_BUSY_S = 30.0
_ENDING_S = 10.0
"""How long an older program that is just ending is waited for."""


class SchemaError(ValueError):
    """The file cannot be used: not ours, damaged, not writable, or newer than this program. The text is for people."""


def now_us() -> int:
    """The one time source of stored records: UTC microseconds."""
    return time.time_ns() // 1000


def open_database(folder: Path) -> sqlite3.Connection:
    """A connection to the database in ``folder``, made and migrated as needed. Raises SchemaError or OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    try:
        connection = connect(folder)
        connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
        migrate(connection)
    except sqlite3.OperationalError as error:
        raise SchemaError(f"The database in {folder} cannot be opened or written: {error}.") from None
    except sqlite3.DatabaseError as error:
        raise SchemaError(
            f"The database in {folder} is damaged, or is none of ours: {error}. Put back a copy of the folder."
        ) from None
    return connection


def connect(folder: Path) -> sqlite3.Connection:
    """A connection without looking at the schema."""
    connection = sqlite3.connect(folder / FILE_NAME, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
    connection.row_factory = sqlite3.Row
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA foreign_keys = ON")
    # An accepted upload must survive the machine, not only the process.
    connection.execute("PRAGMA synchronous = FULL")
    # Records are large: with the usual two megabytes a judged run would go to the disk and back while it is written.
    connection.execute("PRAGMA cache_size = -32768")
    return connection


def migrate(connection: sqlite3.Connection) -> None:
    """Apply every numbered schema step the file has not seen: all of them or none, so that data whose upgrade fails can
    still be read by the program that wrote it. Raises SchemaError or sqlite3.Error.

    A step may rebuild a table that others point to, so keys are checked at the end and not on the way.
    """
    steps = _steps()
    have = _version(connection)
    if have > max(steps):
        raise SchemaError(f"The data was written by a newer Tarnfell (schema {have}). Update this one.")
    if have == max(steps):
        return
    if have:
        _refuse_while_in_use(connection)
    connection.execute("PRAGMA foreign_keys = OFF")
    try:
        with writing(connection):
            have = _version(connection)  # another process may have been as quick
            for number in sorted(number for number in steps if number > have):
                for statement in _statements(steps[number]):
                    connection.execute(statement)
                connection.execute(f"PRAGMA user_version = {number}")
            broken = connection.execute("PRAGMA foreign_key_check").fetchone()
            if broken:
                raise sqlite3.IntegrityError(
                    f"schema steps {have + 1} to {max(steps)} leave rows of {broken[0]} pointing at nothing"
                )
    finally:
        connection.execute("PRAGMA foreign_keys = ON")


def _refuse_while_in_use(connection: sqlite3.Connection) -> None:
    """A server of the version before would go on with tables it does not know."""
    folder = folder_of(connection)
    until = time.monotonic() + _ENDING_S
    for role in ROLES:
        while other := other_holder(folder, role):
            if time.monotonic() < until:
                time.sleep(0.1)
                continue
            raise SchemaError(
                f"The data in {folder} is of an older Tarnfell, and a {role} of that version works with it: {other}. "
                "End it, then try again."
            )


def _version(connection: sqlite3.Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def _statements(step: str) -> Iterator[str]:
    """One by one: ``executescript`` would end the transaction that they all are in."""
    statement = ""
    for part in step.split(";"):
        statement += f"{part};"
        if sqlite3.complete_statement(statement):
            yield statement
            statement = ""
    if statement.strip("; \n"):  # half of one, which the database will say
        yield statement


def _steps() -> dict[int, str]:
    folder = resources.files(__package__).joinpath("schema")
    files = [f for f in folder.iterdir() if f.name.endswith(".sql")]
    return {int(f.name.split("_")[0]): f.read_text(encoding="utf-8") for f in files}


def folder_of(connection: sqlite3.Connection) -> Path:
    """The data folder whose database this is."""
    return Path(connection.execute("PRAGMA database_list").fetchone()["file"]).parent


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
