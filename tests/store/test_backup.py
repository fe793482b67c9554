"""A data folder taken away whole while it is written to, and put back; what is damaged or none is turned away."""

from __future__ import annotations

import hashlib
import io
import json
import os
import sqlite3
import tarfile
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from tarnfell.cli import main
from tarnfell.store import backup
from tarnfell.store.backup import MANIFEST, BackupError, back_up, restore
from tarnfell.store.db import FILE_NAME, connect, open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.files import DELIVERIES, IMPORTS, ISSUED


def filled(folder: Path) -> Path:
    db = open_database(folder)
    with writing(db):
        add_engagement(db, "ferries", "Ferries")
    db.close()
    IMPORTS.keep(folder, [b"a capture"])
    ISSUED.keep(folder, [b"a report"])
    (folder / "session.key").write_text("key")
    (folder / "server.lock").write_text("1234")
    return folder


def archived(folder: Path) -> bytes:
    out = io.BytesIO()
    back_up(folder, out)
    return out.getvalue()


def members(body: bytes) -> dict[str, bytes]:
    with tarfile.open(fileobj=io.BytesIO(body)) as opened:
        return {one.name: opened.extractfile(one).read() for one in opened}  # type: ignore[union-attr]


def packed(files: dict[str, bytes], kind: bytes = tarfile.REGTYPE) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as opened:
        for name, body in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.type = len(body), kind
            opened.addfile(info, io.BytesIO(body))
    return out.getvalue()


def test_what_is_put_back_is_what_was_taken(tmp_path: Path) -> None:
    data, again = filled(tmp_path / "data"), tmp_path / "again"
    body = archived(data)
    manifest = restore(io.BytesIO(body), again)
    assert sorted(manifest.files) == sorted(
        [FILE_NAME, "session.key", *(f"{shelf.name}/{one.name}" for shelf in (IMPORTS, ISSUED)
                                     for one in shelf.names(data))]
    )  # fmt: skip
    assert {p.relative_to(again).as_posix() for p in again.rglob("*") if p.is_file()} == set(manifest.files)
    assert connect(again).execute("SELECT slug FROM engagement").fetchone()[0] == "ferries"
    assert [IMPORTS.read(again, one.name) for one in IMPORTS.names(data)] == [b"a capture"]
    assert (again / "session.key").stat().st_mode & 0o077 == 0
    assert [one.name for one in data.iterdir() if one.name.startswith("backup-")] == []
    with pytest.raises(BackupError, match="not empty"):
        restore(io.BytesIO(body), again)


def test_every_file_that_the_database_names_is_there_however_it_is_written_to(tmp_path: Path) -> None:
    """Files come, are named, are no longer named, and go, all the time."""
    data = filled(tmp_path / "data")
    db = connect(data)
    with writing(db):
        db.execute("CREATE TABLE named (sha256 TEXT, n INTEGER)")
    stop = threading.Event()

    def work() -> None:
        own, n = connect(data), 0
        while not stop.is_set():
            n += 1
            sha256 = DELIVERIES.keep(data, [os.urandom(64), bytes(20_000)])
            with writing(own):
                own.execute("INSERT INTO named VALUES (?, ?)", (sha256, n))
            if n % 3 == 0:
                old = own.execute("SELECT sha256, n FROM named ORDER BY n LIMIT 1").fetchone()
                with writing(own):
                    own.execute("DELETE FROM named WHERE n = ?", (old[1],))
                DELIVERIES.drop(data, old[0])
        own.close()

    worker = threading.Thread(target=work)
    worker.start()
    try:
        bodies = []
        for _ in range(6):
            seen = db.execute("SELECT coalesce(max(n), 0) FROM named").fetchone()[0]
            while db.execute("SELECT coalesce(max(n), 0) FROM named").fetchone()[0] < seen + 4:
                time.sleep(0.005)
            bodies.append(archived(data))
    finally:
        stop.set()
        worker.join()
    for number, body in enumerate(bodies):
        again = tmp_path / f"again{number}"
        restore(io.BytesIO(body), again)
        copy = connect(again)
        assert copy.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        named = {row[0] for row in copy.execute("SELECT sha256 FROM named")}
        assert named
        assert named <= {one.name for one in DELIVERIES.names(again)}
        copy.close()


def test_what_is_written_after_the_moment_is_not_in_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    data, real = filled(tmp_path / "data"), backup._link
    other = connect(data)

    def then_written(file: Path, to: Path) -> None:
        real(file, to)
        with pytest.raises(sqlite3.OperationalError, match="locked"):
            blocked.execute("BEGIN IMMEDIATE")

    blocked = sqlite3.connect(data / FILE_NAME, timeout=0, isolation_level=None)
    monkeypatch.setattr(backup, "_link", then_written)
    real_connect = sqlite3.connect

    def connect_late(*given: Any, **options: Any) -> sqlite3.Connection:
        # Between the moment and the copying of the database.
        if "backup-" in str(given[0]):
            with writing(other):
                add_engagement(other, "late", "Late")
        return real_connect(*given, **options)

    monkeypatch.setattr(backup.sqlite3, "connect", connect_late)
    body = archived(data)
    monkeypatch.undo()
    restore(io.BytesIO(body), tmp_path / "again")
    assert [row[0] for row in connect(tmp_path / "again").execute("SELECT slug FROM engagement")] == ["ferries"]
    assert other.execute("SELECT count(*) FROM engagement").fetchone()[0] == 2


def test_where_links_cannot_be_made_files_are_copied(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    data = filled(tmp_path / "data")

    def no_links(*_: object) -> None:
        raise OSError(1, "Operation not permitted")

    monkeypatch.setattr(os, "link", no_links)
    assert len(members(archived(data))) == 5


def damaged() -> dict[str, Any]:
    def with_more(files: dict[str, bytes], **more: bytes) -> bytes:
        return packed(files | more)

    def told(files: dict[str, bytes], **changes: Any) -> bytes:
        return packed(files | {MANIFEST: json.dumps(json.loads(files[MANIFEST]) | changes).encode()})

    def without(files: dict[str, bytes], name: str) -> bytes:
        return packed({key: body for key, body in files.items() if key != name})

    return {
        "none": (lambda _: b"hello, this is no archive", "is damaged, or is none"),
        "nothing": (lambda _: b"", "is damaged, or is none"),
        "cut": (lambda files: packed(files)[:9000], "is damaged, or is none|cut short"),
        "no manifest": (lambda files: without(files, MANIFEST), "its manifest is missing"),
        "no database": (lambda files: without(files, FILE_NAME), "has no database"),
        "a file short": (lambda files: without(files, "session.key"), "session.key is not what"),
        "a byte changed": (lambda files: with_more(files, **{"session.key": b"kez"}), "session.key is not what"),
        "a file more": (lambda files: with_more(files, **{"farend.key": b"x"}), "farend.key is not what"),
        "out of the folder": (lambda files: with_more(files, **{"../evil": b"x"}), "it holds ../evil"),
        "absolute": (lambda files: with_more(files, **{"/etc/evil": b"x"}), "it holds"),
        "deeper": (lambda files: with_more(files, **{f"imports/{'a' * 60}/../x": b"x"}), "it holds"),
        "a link": (lambda files: packed({"session.key": b""}, tarfile.SYMTYPE), "it holds session.key"),
        "another form": (lambda files: told(files, form=2), "another Tarnfell"),
        "no manifest at all": (lambda files: packed(files | {MANIFEST: b"[1]"}), "cannot be read"),
    }  # fmt: skip


@pytest.mark.parametrize("name", damaged())
def test_what_is_damaged_or_none_leaves_nothing(tmp_path: Path, name: str) -> None:
    made, words = damaged()[name]
    body = made(members(archived(filled(tmp_path / "data"))))
    with pytest.raises(BackupError, match=words):
        restore(io.BytesIO(body), tmp_path / "again")
    assert {one.name for one in tmp_path.iterdir()} == {"data"}


def test_a_database_that_is_damaged_inside_is_found(tmp_path: Path) -> None:
    data = filled(tmp_path / "data")
    body = members(archived(data))
    page = bytearray(body[FILE_NAME])
    page[4096:8192] = b"\xff" * 4096
    told = json.loads(body[MANIFEST])
    told["files"][FILE_NAME] = [len(page), hashlib.sha256(page).hexdigest()]
    with pytest.raises(BackupError, match="database is damaged"):
        restore(
            io.BytesIO(packed(body | {FILE_NAME: bytes(page), MANIFEST: json.dumps(told).encode()})), tmp_path / "a"
        )


def test_from_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    data, out, again = filled(tmp_path / "data"), tmp_path / "t.tar", tmp_path / "again"
    assert main(["backup", "--data", str(data), "--out", str(out), "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)["files"]) == 4
    assert out.stat().st_mode & 0o077 == 0
    assert main(["restore", str(out), "--data", str(again)]) == 0
    assert "4 files" in capsys.readouterr().out
    assert main(["restore", str(out), "--data", str(again)]) == 2
    assert "not empty" in capsys.readouterr().err
    assert main(["restore", str(tmp_path / "nothing"), "--data", str(tmp_path / "b")]) == 2
    assert main(["backup", "--data", str(tmp_path / "nothing"), "--out", str(tmp_path / "c.tar")]) == 2
    assert sorted(one.name for one in tmp_path.iterdir()) == ["again", "data", "t.tar"]


def test_what_a_killed_backup_left_is_taken_away_a_day_later(tmp_path: Path) -> None:
    data = filled(tmp_path / "data")
    for name, age_s in (("backup-old", backup.LEFT_S + 10), ("backup-new", backup.LEFT_S - 10)):
        (data / name).mkdir()
        then = time.time() - age_s
        os.utime(data / name, (then, then))
    archived(data)
    assert sorted(one.name for one in data.glob("backup-*")) == ["backup-new"]
