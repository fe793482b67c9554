"""Reports that were issued, drafts of what a consultant writes into them, and the links they are read by.

draft ──► issued ──► replaced, by the next of its site
              └────► withdrawn, with the reason

None of it changes what was issued: its files lie on a shelf by what is in them (store/files.py).
"""

from __future__ import annotations

import secrets
import sqlite3
from collections.abc import Collection, Iterable
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us
from tarnfell.store.hashing import hashed

IssuedState = Literal["issued", "replaced", "withdrawn"]


@dataclass(frozen=True)
class Draft:
    """Empty where the report says it by itself."""

    summary: str = ""
    note: str = ""
    sound_call: int | None = None
    """A call to be heard in it."""
    sound_direction: str = ""


@dataclass(frozen=True)
class Issued:
    id: int
    site_id: int
    number: str
    issued_us: int
    issued_by: int | None
    version: str
    word: str
    low: int
    high: int
    page_sha256: str
    data_sha256: str
    pdf_sha256: str | None
    replaced_by: int | None
    withdrawn_us: int | None
    withdrawn_by: int | None
    withdrawn: str
    """Why; empty where it was not."""
    calls_sha256: str | None
    """None of reports that were issued before calls were kept with them."""
    provisional: int | None
    """Evidence was short of what the brief asked; None of reports of before."""

    @property
    def state(self) -> IssuedState:
        if self.withdrawn_us is not None:
            return "withdrawn"
        return "issued" if self.replaced_by is None else "replaced"

    @property
    def files(self) -> list[str]:
        return [one for one in (self.page_sha256, self.data_sha256, self.pdf_sha256, self.calls_sha256) if one]


@dataclass(frozen=True)
class Link:
    id: int
    issued_id: int
    code: str
    name: str
    passphrase: str | None
    """Its hash."""
    made_us: int
    until_us: int
    revoked_us: int | None

    def is_good(self, at_us: int) -> bool:
        return self.revoked_us is None and at_us < self.until_us


@dataclass(frozen=True)
class Opened:
    link_id: int
    at_us: int
    peer: str


_ISSUED = f"SELECT {', '.join(f.name for f in fields(Issued))} FROM issued"
_LINK = f"SELECT {', '.join(f.name for f in fields(Link))} FROM report_link"


def draft_of(db: sqlite3.Connection, site_id: int) -> Draft:
    row = db.execute(
        "SELECT summary, note, sound_call, sound_direction FROM report_draft WHERE site_id = ?", (site_id,)
    ).fetchone()
    return Draft(*row) if row else Draft()


def keep_draft(db: sqlite3.Connection, site_id: int, draft: Draft, by: int | None) -> None:
    db.execute(
        "INSERT INTO report_draft (site_id, summary, note, changed_us, changed_by) VALUES (?, ?, ?, ?, ?) "
        "ON CONFLICT (site_id) DO UPDATE SET summary = excluded.summary, note = excluded.note, "
        "changed_us = excluded.changed_us, changed_by = excluded.changed_by",
        (site_id, draft.summary, draft.note, now_us(), by),
    )


def keep_sound(db: sqlite3.Connection, site_id: int, call_id: int | None, direction: str, by: int | None) -> None:
    """Which call is heard in the report; None: none."""
    db.execute(
        "INSERT INTO report_draft (site_id, summary, note, changed_us, changed_by, sound_call, sound_direction) "
        "VALUES (?, '', '', ?, ?, ?, ?) ON CONFLICT (site_id) DO UPDATE SET changed_us = excluded.changed_us, "
        "changed_by = excluded.changed_by, sound_call = excluded.sound_call, "
        "sound_direction = excluded.sound_direction",
        (site_id, now_us(), by, call_id, direction if call_id is not None else ""),
    )


def next_number(db: sqlite3.Connection, year: int) -> str:
    """Of this server's reports, counted through each year; one number is never given twice."""
    start = f"TF-{year}-"
    row = db.execute(
        "SELECT max(CAST(substr(number, ?) AS INTEGER)) FROM issued WHERE number LIKE ?", (len(start) + 1, f"{start}%")
    ).fetchone()
    return f"{start}{(row[0] or 0) + 1:04d}"


def add(
    db: sqlite3.Connection, site_id: int, number: str, at_us: int, by: int | None, version: str, word: str, low: int,
    high: int, page_sha256: str, data_sha256: str, calls_sha256: str,
    provisional: bool,
) -> Issued:  # fmt: skip
    """The newest of its site; the one before is replaced by it, unless it was withdrawn."""
    cursor = db.execute(
        "INSERT INTO issued (site_id, number, issued_us, issued_by, version, word, low, high, page_sha256, "
        "data_sha256, calls_sha256, provisional) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            site_id, number, at_us, by, version, word, low, high, page_sha256, data_sha256, calls_sha256,
            int(provisional),
        ),
    )  # fmt: skip
    fresh = int(cursor.lastrowid or 0)
    db.execute(
        "UPDATE issued SET replaced_by = ? WHERE site_id = ? AND id < ? AND replaced_by IS NULL "
        "AND withdrawn_us IS NULL",
        (fresh, site_id, fresh),
    )
    found = by_id(db, fresh)
    assert found is not None
    return found


def by_id(db: sqlite3.Connection, issued_id: int) -> Issued | None:
    row = db.execute(f"{_ISSUED} WHERE id = ?", (issued_id,)).fetchone()
    return Issued(*row) if row else None


def by_number(db: sqlite3.Connection, number: str) -> Issued | None:
    row = db.execute(f"{_ISSUED} WHERE number = ?", (number,)).fetchone()
    return Issued(*row) if row else None


def by_file(db: sqlite3.Connection, sha256: str) -> Issued | None:
    """That has a file of this content."""
    row = db.execute(f"{_ISSUED} WHERE ? IN (page_sha256, data_sha256, pdf_sha256, calls_sha256)", (sha256,)).fetchone()
    return Issued(*row) if row else None


def issued_of(db: sqlite3.Connection, site_id: int) -> list[Issued]:
    """Newest first."""
    return [Issued(*row) for row in db.execute(f"{_ISSUED} WHERE site_id = ? ORDER BY id DESC", (site_id,))]


def without_pdf(db: sqlite3.Connection, but: Collection[int] = ()) -> Issued | None:
    """The one that has waited longest for it, ``but`` those."""
    waiting = (Issued(*row) for row in db.execute(f"{_ISSUED} WHERE pdf_sha256 IS NULL ORDER BY id"))
    return next((one for one in waiting if one.id not in but), None)


def keep_pdf(db: sqlite3.Connection, issued_id: int, sha256: str) -> None:
    """Once: what was made first stays."""
    db.execute("UPDATE issued SET pdf_sha256 = ? WHERE id = ? AND pdf_sha256 IS NULL", (sha256, issued_id))


def withdraw(db: sqlite3.Connection, issued_id: int, reason: str, by: int | None) -> None:
    db.execute(
        "UPDATE issued SET withdrawn_us = ?, withdrawn_by = ?, withdrawn = ? WHERE id = ? AND withdrawn_us IS NULL",
        (now_us(), by, reason, issued_id),
    )


def add_link(
    db: sqlite3.Connection, issued_id: int, name: str, passphrase: str, until_us: int, by: int | None
) -> tuple[int, str]:
    """Its number and its code. An empty passphrase asks for none."""
    code = secrets.token_urlsafe(24)
    cursor = db.execute(
        "INSERT INTO report_link (issued_id, code, name, passphrase, made_us, made_by, until_us) "
        "VALUES (?, ?, ?, ?, ?, ?, ?)",
        (issued_id, code, name, hashed(passphrase) if passphrase else None, now_us(), by, until_us),
    )
    return int(cursor.lastrowid or 0), code


def revoke_link(db: sqlite3.Connection, link_id: int) -> None:
    db.execute("UPDATE report_link SET revoked_us = ? WHERE id = ? AND revoked_us IS NULL", (now_us(), link_id))


def link_by_code(db: sqlite3.Connection, code: str) -> Link | None:
    row = db.execute(f"{_LINK} WHERE code = ?", (code,)).fetchone()
    return Link(*row) if row else None


def links_of(db: sqlite3.Connection, issued_id: int) -> list[Link]:
    """Newest first."""
    return [Link(*row) for row in db.execute(f"{_LINK} WHERE issued_id = ? ORDER BY id DESC", (issued_id,))]


def note_opened(db: sqlite3.Connection, link_id: int, peer: str) -> None:
    db.execute("INSERT INTO report_opened (link_id, at_us, peer) VALUES (?, ?, ?)", (link_id, now_us(), peer))


def opened(db: sqlite3.Connection, links: Iterable[int]) -> list[Opened]:
    """In the order of time."""
    numbers = list(links)
    marks = ", ".join("?" * len(numbers))
    rows = db.execute(
        f"SELECT link_id, at_us, peer FROM report_opened WHERE link_id IN ({marks}) ORDER BY at_us", numbers
    )
    return [Opened(*row) for row in rows]
