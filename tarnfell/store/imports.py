"""Imported files: what was read in it, and what people said of it."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import asdict, dataclass

from pydantic import TypeAdapter

from tarnfell.core.imported import Choices, FileContents
from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Imported:
    id: int
    site_id: int
    name: str
    kind: str
    sha256: str
    result: FileContents
    choices: Choices
    created_us: int
    stale: int
    """It waits to be read by the clerk, for the first time or again."""
    reading: int
    """Nothing has been read in it yet."""
    failure: str | None
    """Why nothing can be read in it."""
    tries: int


MAX_TRIES = 5
"""A file that ended the clerk so often is not tried again: it would end it for ever."""
_CONTENTS, _CHOICES = TypeAdapter(FileContents), TypeAdapter(Choices)

_SELECT = (
    "SELECT id, site_id, name, kind, sha256, result, choices, created_us, stale, reading, failure, tries FROM imported"
)


def keep_import(
    db: sqlite3.Connection,
    site_id: int,
    name: str,
    kind: str,
    sha256: str,
    result: FileContents,
    choices: Choices,
    by: int | None,
) -> int:
    """The same file again is the same import; what was said of it before stays unless it is said anew."""
    db.execute(
        "INSERT INTO imported (site_id, name, kind, sha256, result, choices, imported_by, created_us) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?) "
        "ON CONFLICT (site_id, sha256) DO UPDATE SET name = excluded.name, result = excluded.result, "
        "choices = json_patch(choices, excluded.choices), reading = 0, failure = NULL",
        (site_id, name, kind, sha256, _contents(result), _said(choices), by, now_us()),
    )
    row = db.execute("SELECT id FROM imported WHERE site_id = ? AND sha256 = ?", (site_id, sha256)).fetchone()
    return int(row[0])


def keep_unread(
    db: sqlite3.Connection, site_id: int, name: str, kind: str, sha256: str, choices: Choices, by: int | None
) -> int:
    """As ``keep_import``, of a file that the clerk is to read. What was read in it before is shown until then."""
    db.execute(
        "INSERT INTO imported (site_id, name, kind, sha256, result, choices, imported_by, created_us, stale, reading) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, 1, 1) "
        "ON CONFLICT (site_id, sha256) DO UPDATE SET name = excluded.name, stale = 1, tries = 0, "
        "choices = json_patch(choices, excluded.choices), reading = failure IS NOT NULL, failure = NULL",
        (site_id, name, kind, sha256, _contents(FileContents()), _said(choices), by, now_us()),
    )
    row = db.execute("SELECT id FROM imported WHERE site_id = ? AND sha256 = ?", (site_id, sha256)).fetchone()
    return int(row[0])


def read_again(db: sqlite3.Connection, import_id: int) -> None:
    """By the clerk, with what is said of it now."""
    db.execute("UPDATE imported SET stale = 1, tries = 0 WHERE id = ?", (import_id,))


def note_try(db: sqlite3.Connection, one: Imported) -> None:
    """Before it is read, so that one that ends the process is counted."""
    db.execute("UPDATE imported SET tries = ? WHERE id = ?", (one.tries + 1, one.id))


def put_off(db: sqlite3.Connection, one: Imported) -> None:
    """It was not the file's fault: the try does not count."""
    db.execute("UPDATE imported SET tries = ? WHERE id = ?", (one.tries, one.id))


def keep_failure(db: sqlite3.Connection, one: Imported, words: str) -> None:
    """What was read in it before stays; where nothing was, it says why."""
    db.execute(
        "UPDATE imported SET stale = 0, tries = 0, failure = CASE reading WHEN 1 THEN ? END, reading = 0 WHERE id = ?",
        (words, one.id),
    )


def change_import(db: sqlite3.Connection, import_id: int, name: str, choices: Choices, result: FileContents) -> None:
    db.execute(
        "UPDATE imported SET name = ?, choices = ?, result = ?, tries = 0 WHERE id = ?",
        (name, _said(choices), _contents(result), import_id),
    )


def remove_import(db: sqlite3.Connection, import_id: int) -> bool:
    """Whether no other import has the same file, which may then go too."""
    row = db.execute("DELETE FROM imported WHERE id = ? RETURNING sha256", (import_id,)).fetchone()
    return bool(row) and db.execute("SELECT 1 FROM imported WHERE sha256 = ?", (row[0],)).fetchone() is None


def import_by_id(db: sqlite3.Connection, import_id: int) -> Imported:
    """Raises KeyError."""
    row = db.execute(f"{_SELECT} WHERE id = ?", (import_id,)).fetchone()
    if row is None:
        raise KeyError(import_id)
    return _imported(row)


def imports_of(db: sqlite3.Connection, site_id: int) -> list[Imported]:
    """Newest first."""
    return [_imported(row) for row in db.execute(f"{_SELECT} WHERE site_id = ? ORDER BY id DESC", (site_id,))]


def stale_import(db: sqlite3.Connection) -> Imported | None:
    """The newest that waits: large and new, or judged by values of a codec that have changed since."""
    row = db.execute(f"{_SELECT} WHERE stale = 1 ORDER BY id DESC LIMIT 1").fetchone()
    return _imported(row) if row else None


def replace_result(db: sqlite3.Connection, one: Imported, result: FileContents) -> None:
    """Keep what was read anew, unless people have said something else of the file since: then it is read once more."""
    row = db.execute("SELECT choices FROM imported WHERE id = ?", (one.id,)).fetchone()
    if row is None or _CHOICES.validate_json(row[0]) != one.choices:
        return
    db.execute(
        "UPDATE imported SET result = ?, stale = 0, reading = 0, failure = NULL, tries = 0 WHERE id = ?",
        (_contents(result), one.id),
    )


def count_of(db: sqlite3.Connection, site_id: int) -> int:
    return int(db.execute("SELECT count(*) FROM imported WHERE site_id = ?", (site_id,)).fetchone()[0])


def _contents(read: FileContents) -> str:
    return _CONTENTS.dump_json(read).decode()


def _said(choices: Choices) -> str:
    """What was said and no more: it is laid over what was said before."""
    untold = vars(Choices())
    return json.dumps({name: value for name, value in asdict(choices).items() if value != untold[name]})


def _imported(row: sqlite3.Row) -> Imported:
    read, choices = _CONTENTS.validate_json(row["result"]), _CHOICES.validate_json(row["choices"])
    return Imported(**{**dict(row), "result": read, "choices": choices})
