"""The database: migrations that keep data, one writer, uploads that survive a kill."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tarnfell.store import db as database
from tarnfell.store import people
from tarnfell.store.db import FILE_NAME, SchemaError, connect, open_database, writing
from tarnfell.store.sites import add_engagement, engagements


def test_opening_again_keeps_everything(tmp_path: Path) -> None:
    add_engagement(open_database(tmp_path), "a", "A")
    assert [e.slug for e in engagements(open_database(tmp_path))] == ["a"]


def test_every_table_is_strict_and_keys_hold(tmp_path: Path) -> None:
    db = open_database(tmp_path)
    tables = db.execute("SELECT name, strict FROM pragma_table_list WHERE schema = 'main' AND name NOT LIKE 'sqlite_%'")
    assert {(t["name"], t["strict"]) for t in tables} >= {("run", 1), ("call", 1), ("direction", 1), ("site", 1)}
    with pytest.raises(sqlite3.IntegrityError):
        db.execute("INSERT INTO call (run_id, number, started_us, record) VALUES (9, 1, 1, x'00')")
    assert db.execute("PRAGMA journal_mode").fetchone()[0] == "wal"


def test_a_later_step_is_applied_to_old_data(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    add_engagement(open_database(tmp_path), "a", "A")
    steps = database._steps()
    steps[max(steps) + 1] = "ALTER TABLE engagement ADD COLUMN colour TEXT NOT NULL DEFAULT 'sand';"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    row = open_database(tmp_path).execute("SELECT slug, colour FROM engagement").fetchone()
    assert tuple(row) == ("a", "sand")


def test_a_broken_step_changes_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    open_database(tmp_path)
    steps = database._steps()
    last = max(steps)
    steps[last + 1] = "CREATE TABLE extra (id INTEGER) STRICT; CREATE TABLE nonsense (;"
    monkeypatch.setattr(database, "_steps", lambda: steps)
    with pytest.raises(sqlite3.Error):
        open_database(tmp_path)
    db = connect(tmp_path)
    assert db.execute("PRAGMA user_version").fetchone()[0] == last
    assert db.execute("SELECT count(*) FROM sqlite_master WHERE name = 'extra'").fetchone()[0] == 0


def test_data_of_a_newer_release_is_left_alone(tmp_path: Path) -> None:
    open_database(tmp_path).execute("PRAGMA user_version = 999")
    with pytest.raises(SchemaError, match="newer Tarnfell"):
        open_database(tmp_path)


def test_a_failed_write_leaves_nothing(tmp_path: Path) -> None:
    db = open_database(tmp_path)

    def write_twice() -> None:
        with writing(db):
            add_engagement(db, "a", "A")
            add_engagement(db, "a", "A again")

    with pytest.raises(sqlite3.IntegrityError):
        write_twice()
    assert engagements(db) == []


def test_what_was_committed_survives_a_kill(tmp_path: Path) -> None:
    code = (
        "import sys, time; from pathlib import Path\n"
        "from tarnfell.store.db import open_database, writing\n"
        "from tarnfell.store.sites import add_engagement\n"
        "db = open_database(Path(sys.argv[1]))\n"
        "with writing(db): add_engagement(db, 'kept', 'Kept')\n"
        "print('written', flush=True)\n"
        "db.execute('BEGIN IMMEDIATE'); add_engagement(db, 'lost', 'Lost'); time.sleep(60)\n"
    )
    with subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE) as writer:
        assert writer.stdout is not None
        assert writer.stdout.readline() == b"written\n"
        time.sleep(0.2)
        os.kill(writer.pid, signal.SIGKILL)
    aside = tmp_path / "copy"
    aside.mkdir()
    for file in tmp_path.glob(f"{FILE_NAME}*"):
        shutil.copy(file, aside)
    assert [e.slug for e in engagements(open_database(aside))] == ["kept"]


def test_short_passwords_are_refused(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="at least 10"):
        people.add_user(open_database(tmp_path), "a@customer.example", "A", "short")
