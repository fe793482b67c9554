"""A disk that is really full: a small file system of its own, filled to the last byte."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tarnfell.store.db import connect
from tarnfell.store.files import DELIVERIES
from tests.server.conftest import House, built_house, record_file
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
