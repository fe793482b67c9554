"""One engagement as an open archive, and put among those of another installation.

The archive is a tar file as a backup's is: a database that holds nothing but what belongs to the engagement, the files
that it names, and a manifest. What belongs is found by the database's own references: a row that leads, however far,
to another engagement is left out. Nothing in it opens a door: no passwords, sessions, links, keys or tokens.

Where it is put, its rows get numbers of their own. People are known again by their address, far ends by host and port;
others come along as names, who cannot sign in.
"""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from graphlib import TopologicalSorter
from pathlib import Path
from typing import BinaryIO

from tarnfell.store.backup import ASIDE, BackupError, Manifest, check_database, unpacked, write_archive
from tarnfell.store.db import FILE_NAME, connect, now_us, writing
from tarnfell.store.files import IMPORTS, ISSUED, Shelf
from tarnfell.store.members import join
from tarnfell.store.people import user_by_email

_LEFT = (
    "session", "welcome", "letter", "mail_server", "message", "metrics_token", "alert_target", "invitation", "task",
    "computed", "report_opened", "report_link", "server_up", "member", "routine", "delivery", "server_look",
)  # fmt: skip
"""Of the installation, of a moment, or a key to something."""
_SHARED = ("user", "far_end")
"""Of the installation, and part of an engagement where it names them."""
_KEPT_BESIDE = ("run_tally", "codec_tally", "watch_tally", "call_mos")
"""By the database itself, as rows come in."""
_NAMED: tuple[tuple[Shelf, str, tuple[str, ...]], ...] = (
    (IMPORTS, "imported", ("sha256",)),
    (ISSUED, "issued", ("page_sha256", "data_sha256", "pdf_sha256", "calls_sha256")),
)
_OPEN = "SELECT id FROM job WHERE state IN ('waiting', 'taken', 'running')"
_SWITCHED_OFF = (
    "UPDATE user SET password_hash = '', seen_us = NULL, seen_before_us = NULL",
    "UPDATE probe SET secret_hash = NULL, contact_address = NULL, enrolled_us = NULL, last_contact_us = NULL",
    "UPDATE far_end SET key = '', kind = CASE kind WHEN 'server' THEN 'host' ELSE kind END",
    "UPDATE watch SET wanted = 0, told_version = NULL",
    "UPDATE plan SET state = 'draft', next_us = NULL WHERE state = 'scheduled'",
    "UPDATE fill_plan SET state = 'ended', next_us = NULL WHERE state = 'scheduled'",
    "UPDATE series SET state = 'stopped', words = 'Moved to another server.' WHERE state IN ('waiting', 'running')",
    "UPDATE what_if SET state = 'failed' WHERE state IN ('waiting', 'being tried')",
    "UPDATE alert SET ended_us = made_us WHERE ended_us IS NULL",
    "UPDATE alert_rule SET ended_us = made_us WHERE ended_us IS NULL",
)
"""What would act by itself, or lets somebody in."""


@dataclass(frozen=True)
class Moved:
    slug: str
    sites: tuple[str, ...]
    """Their addresses; one that was taken has a number behind it."""
    rows: int
    without_key: tuple[str, ...]
    """Far ends whose key is to be given before calls are placed to them."""


def export_engagement(data: Path, slug: str, out: BinaryIO) -> Manifest:
    """Write the archive; the server may be at work meanwhile. Raises BackupError and OSError."""
    if not (data / FILE_NAME).is_file():
        raise BackupError(f"There is no data in {data}.")
    with tempfile.TemporaryDirectory(prefix=ASIDE, dir=data) as name:
        aside = Path(name)
        with closing(connect(data)) as db, closing(sqlite3.connect(aside / FILE_NAME)) as copy:
            db.backup(copy)
        with closing(sqlite3.connect(aside / FILE_NAME, isolation_level=None)) as own:
            own.row_factory = sqlite3.Row
            _only(own, slug)
            for shelf, sha256 in _files_of(own):
                body = shelf.place(data, sha256)
                if not body.is_file():
                    raise BackupError(f"A file of the engagement is missing from {data}: {shelf.name}/{sha256}.")
                (aside / shelf.name).mkdir(exist_ok=True)
                (aside / shelf.name / sha256).write_bytes(body.read_bytes())
        return write_archive(aside, out, "engagement")


def _only(own: sqlite3.Connection, slug: str) -> None:
    row = own.execute("SELECT id FROM engagement WHERE slug = ?", (slug,)).fetchone()
    if row is None:
        raise BackupError(f"There is no engagement “{slug}” here.")
    waiting = own.execute(
        "SELECT count(*) FROM delivery JOIN job ON job.id = delivery.run_id JOIN site ON site.id = job.site_id "
        "WHERE site.engagement_id = ? AND delivery.refused IS NULL",
        (row["id"],),
    ).fetchone()[0]
    if waiting:
        raise BackupError(f"{waiting} results of probes are still being judged. Try again in a moment.")
    own.execute("PRAGMA foreign_keys = OFF")
    # What was deleted is gone from the file, and not only from its tables.
    own.execute("PRAGMA secure_delete = ON")
    own.execute("BEGIN")
    for table in _LEFT:
        own.execute(f"DELETE FROM {table}")
    own.execute("DELETE FROM engagement WHERE id <> ?", (row["id"],))
    own.execute("DELETE FROM deed WHERE engagement_id IS NULL")
    own.execute(f"UPDATE fill_plan SET last_job = NULL WHERE last_job IN ({_OPEN})")
    own.execute(f"DELETE FROM job WHERE id IN ({_OPEN})")
    gone = 1
    while gone:
        gone = sum(
            own.execute(
                f"DELETE FROM {table} WHERE {column} IS NOT NULL AND {column} NOT IN (SELECT {key} FROM {parent})"
            ).rowcount
            for table, column, parent, key in _references(own)
        )
    for shared in _SHARED:
        named = " UNION ".join(
            f"SELECT {column} FROM {table} WHERE {column} IS NOT NULL"
            for table, column, parent, _ in _references(own)
            if parent == shared
        )
        own.execute(f"DELETE FROM {shared} WHERE id NOT IN ({named})")
    for change in _SWITCHED_OFF:
        own.execute(change)
    own.execute("COMMIT")
    own.execute("VACUUM")
    # One file, without the log beside it that this form of the database otherwise has.
    own.execute("PRAGMA journal_mode = DELETE")


def _references(db: sqlite3.Connection, schema: str = "main") -> Iterator[tuple[str, str, str, str]]:
    """Table, column, the table that it leads to, and the column there."""
    for table in _tables(db, schema):
        for one in db.execute(f"PRAGMA {schema}.foreign_key_list({table})").fetchall():
            yield table, one["from"], one["table"], one["to"] or "id"


def _tables(db: sqlite3.Connection, schema: str = "main") -> list[str]:
    rows = db.execute(f"SELECT name FROM {schema}.sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
    return sorted(row[0] for row in rows)


def _files_of(db: sqlite3.Connection) -> set[tuple[Shelf, str]]:
    return {
        (shelf, row[0])
        for shelf, table, columns in _NAMED
        for column in columns
        for row in db.execute(f"SELECT {column} FROM {table} WHERE {column} IS NOT NULL")
    }


def import_engagement(archive: BinaryIO, data: Path, email: str, slug: str | None = None) -> Moved:
    """Put the archive's engagement among those of a data folder, all of it or nothing; ``email`` is its consultant
    from here on. Raises BackupError and OSError."""
    if not (data / FILE_NAME).is_file():
        raise BackupError(f"There is no data in {data}. Begin it with `tarnfell user`.")
    with tempfile.TemporaryDirectory(prefix=ASIDE, dir=data) as name, closing(connect(data)) as db:
        half = Path(name)
        unpacked(archive, half, "engagement")
        check_database(half)
        consultant = user_by_email(db, email)
        if consultant is None:
            raise BackupError(f"Nobody with the address {email} is here. Add them with `tarnfell user`.")
        db.execute("ATTACH ? AS came", (str(half / FILE_NAME),))
        # Files first: a row that names none is worse than a file that no row names.
        for shelf in (IMPORTS, ISSUED):
            for file in shelf.names(half):
                shelf.keep(data, [file.read_bytes()])
        with writing(db):
            db.execute("PRAGMA defer_foreign_keys = ON")
            moved = _merged(db, slug)
            engagement = db.execute("SELECT id FROM engagement WHERE slug = ?", (moved.slug,)).fetchone()[0]
            join(db, engagement, consultant.id, "consultant")
        db.execute("DETACH came")
    return moved


def _merged(db: sqlite3.Connection, slug: str | None) -> Moved:
    row = db.execute("SELECT slug FROM came.engagement").fetchone()
    if row is None:
        raise BackupError("The archive holds no engagement.")
    slug = slug or row["slug"]
    if db.execute("SELECT 1 FROM main.engagement WHERE slug = ?", (slug,)).fetchone():
        raise BackupError(f"There is an engagement “{slug}” here already. Give the other one an address with --slug.")
    number = db.execute(
        "SELECT number FROM came.issued WHERE number IN (SELECT number FROM main.issued) LIMIT 1"
    ).fetchone()
    if number:
        raise BackupError(f"A report numbered {number[0]} was issued here too: reports keep their numbers.")
    db.execute("UPDATE came.engagement SET slug = ?", (slug,))
    sites = _free_addresses(db)
    without_key = _known_again(db)
    rows = 0
    leads = {(table, column): parent for table, column, parent, _ in _references(db, "came")}
    further = {
        table: db.execute(f"SELECT coalesce(max(id), 0) FROM main.{table}").fetchone()[0]
        for table in _tables(db, "came")
        if table not in _SHARED and "id" in _columns(db, table)
    }

    def moved(table: str, column: str) -> str:
        parent = leads.get((table, column))
        if parent in _SHARED:
            return f"(SELECT new FROM temp.{parent}_known WHERE old = {column})"
        if parent is not None:
            return f"{column} + {_offset(parent, leads, further)}"
        return f"{column} + {further[table]}" if column == "id" else column

    for table in _parents_first(_tables(db, "came"), leads):
        if table in _SHARED or table in _KEPT_BESIDE:
            continue
        columns = _columns(db, table)
        rows += db.execute(
            f"INSERT INTO main.{table} ({', '.join(columns)}) "
            f"SELECT {', '.join(moved(table, column) for column in columns)} FROM came.{table}"
        ).rowcount
    # A probe that is a far end as well: its own row, now that the probe has its number.
    db.execute(f"UPDATE main.far_end SET probe_id = -probe_id + {further['probe']} WHERE probe_id < 0")
    for shared in _SHARED:
        db.execute(f"DROP TABLE temp.{shared}_known")
    return Moved(slug, tuple(sites), rows, tuple(without_key))


def _parents_first(tables: Sequence[str], leads: dict[tuple[str, str], str]) -> Iterator[str]:
    """What the database keeps beside a row as it comes in is found where that row leads."""
    order = TopologicalSorter[str](dict.fromkeys(tables, ()))
    for (table, _), parent in leads.items():
        if table not in (parent, *_SHARED):
            order.add(table, parent)
    return iter(order.static_order())


def _offset(table: str, leads: dict[tuple[str, str], str], further: dict[str, int]) -> int:
    """Of a table's numbers; those of a run are its job's."""
    parent = leads.get((table, "id"))
    return _offset(parent, leads, further) if parent is not None else further[table]


def _columns(db: sqlite3.Connection, table: str) -> list[str]:
    return [row["name"] for row in db.execute(f"PRAGMA came.table_info({table})")]


def _free_addresses(db: sqlite3.Connection) -> list[str]:
    """Sites whose address is taken here get a number behind it."""
    found = []
    for row in db.execute("SELECT id, slug FROM came.site ORDER BY id").fetchall():
        own, number = row["slug"], 1
        while db.execute("SELECT 1 FROM main.site WHERE slug = ?", (own,)).fetchone() or own in found:
            number += 1
            own = f"{row['slug']}-{number}"
        db.execute("UPDATE came.site SET slug = ? WHERE id = ?", (own, row["id"]))
        found.append(own)
    return found


def _known_again(db: sqlite3.Connection) -> list[str]:
    """People and far ends by their numbers here. The names of those far ends that are new here and need a key."""
    for shared in _SHARED:
        db.execute(f"CREATE TEMP TABLE {shared}_known (old INTEGER PRIMARY KEY, new INTEGER NOT NULL)")
    for row in db.execute("SELECT id, email, name FROM came.user").fetchall():
        here = db.execute("SELECT id FROM main.user WHERE email = ?", (row["email"],)).fetchone()
        new = here[0] if here else db.execute(
            "INSERT INTO main.user (email, name, password_hash, created_us, removed_us) VALUES (?, ?, '', ?, ?)",
            (row["email"], row["name"], now_us(), now_us()),
        ).lastrowid  # fmt: skip
        db.execute("INSERT INTO temp.user_known VALUES (?, ?)", (row["id"], new))
    without_key = []
    for row in db.execute("SELECT * FROM came.far_end").fetchall():
        here = db.execute(
            "SELECT id FROM main.far_end WHERE kind = 'host' AND kind = ? AND host = ? AND port = ? "
            "ORDER BY archived_us IS NOT NULL, id LIMIT 1",
            (row["kind"], row["host"], row["port"]),
        ).fetchone()
        if here is None:
            values = {name: row[name] for name in row.keys() if name != "id"}  # noqa: SIM118 (a row, no mapping)
            if values["probe_id"] is not None:
                values["probe_id"] = -values["probe_id"]
            here = (
                db.execute(
                    f"INSERT INTO main.far_end ({', '.join(values)}) VALUES ({', '.join('?' * len(values))})",
                    tuple(values.values()),
                ).lastrowid,
            )
            if row["kind"] == "host":
                without_key.append(row["name"])
        db.execute("INSERT INTO temp.far_end_known VALUES (?, ?)", (row["id"], here[0]))
    return without_key
