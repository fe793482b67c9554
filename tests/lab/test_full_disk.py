"""A disk that is really full: a small file system of its own, filled to the last byte."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tarnfell.store import db as database
from tarnfell.store.db import SchemaError, connect, open_database
from tarnfell.store.files import DELIVERIES
from tests import rig
from tests.server.conftest import House, built_house, record_file, set_up
from tests.server.test_runs import taken

pytestmark = [
    pytest.mark.lab,
    pytest.mark.skipif(os.geteuid() != 0, reason="needs root to mount a file system"),
]
RECORD = record_file(packets=20_000, delay_us=31_415)


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    folder = tmp_path / "small"
    folder.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=6m", "tmpfs", str(folder)], check=True)
    try:
        yield folder
    finally:
        subprocess.run(["umount", "--lazy", str(folder)], check=True)


def fill(folder: Path) -> Path:
    filler = folder / "filler"
    with filler.open("wb", buffering=0) as file:
        try:
            while True:
                file.write(bytes(4096))
        except OSError:
            pass
    return filler


def deliver(house: House, run_id: int) -> tuple[int, str]:
    answer = house.probe("PUT", f"/api/probe/jobs/{run_id}/record", data=RECORD)
    return answer.status_code, answer.text


def test_a_full_disk_is_said_and_nothing_is_lost(small: Path) -> None:
    house = built_house(small)
    run_id = taken(house)
    filler = fill(small)
    status, words = deliver(house, run_id)
    assert (status, "half written" in words) == (503, True), words
    told = house.post("/api/engagements", {"name": "Another", "summary": "x" * 200})
    assert told.status_code in (200, 503), told.text  # a page of the log may have been left
    assert house.person.get("/api/sites/pier").status_code == 200  # what is there can be read
    assert [f.name for f in DELIVERIES.names(small)] == []
    filler.unlink()
    assert deliver(house, run_id)[0] == 200

    filler = fill(small)  # full again before it is judged
    db = connect(small)
    for _ in range(8):
        with pytest.raises(Exception, match="full"):
            house.judge()
    assert db.execute("SELECT state FROM job").fetchone()[0] == "taken"
    filler.unlink()
    db.execute("UPDATE delivery SET not_before_us = 0")
    house.judge()
    assert db.execute("SELECT state FROM job").fetchone()[0] == "done"
    assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    db.close()


def test_what_cannot_be_begun_or_upgraded_on_a_full_disk_says_so_and_is_left_as_it_was(
    small: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    filler = fill(small)
    for verb in (("user", "--list"), ("serve", "--bind", "127.0.0.1:9")):
        told = rig.cli(*verb, "--data", str(small))
        assert (told.returncode, told.stderr.count("\n")) == (2, 1), told.stderr
        assert "full" in told.stderr or "No space left" in told.stderr
    filler.unlink()
    steps = database._steps()
    with monkeypatch.context() as before:
        before.setattr(database, "_steps", lambda: {n: sql for n, sql in steps.items() if n < 50})
        db = open_database(small)
        set_up(db, "192.0.2.1", 4870, "key")
        db.close()
    filler = fill(small)
    with pytest.raises(SchemaError, match=f"The database in {small} cannot be opened or written: .*(full|I/O error)"):
        open_database(small)
    filler.unlink()
    assert connect(small).execute("PRAGMA user_version").fetchone()[0] == 49
    assert open_database(small).execute("PRAGMA user_version").fetchone()[0] == max(steps)
