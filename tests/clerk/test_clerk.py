"""The clerk over what probes delivered: judged once, in order, whatever ends in between; one clerk to a folder."""

from __future__ import annotations

import os
import queue
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.server.http import serve
from tarnfell.store import deliveries as store
from tarnfell.store import jobs as job_store
from tarnfell.store import letters, outbox, places
from tarnfell.store import runs as run_store
from tarnfell.store import targets as target_store
from tarnfell.store.codecs import stale_runs
from tarnfell.store.db import connect, open_database, writing
from tarnfell.store.files import DELIVERIES
from tarnfell.store.lock import Held, only_one
from tarnfell.store.targets import MailServer, Targets
from tarnfell.work.closeup.call import CallLook
from tarnfell.work.ingest import deliveries
from tarnfell.work.outbox import mail, webhook
from tarnfell.work.outbox.deliver import Sending
from tests import rig
from tests.server.conftest import House, built_house, record_file
from tests.server.test_runs import taken


@pytest.fixture
def house(tmp_path: Path) -> House:
    return built_house(tmp_path)


def delivered(house: House, **record: Any) -> int:
    """A run whose record the server has and nobody has judged yet."""
    number = taken(house)
    sent = house.probe("PUT", f"/api/probe/jobs/{number}/record", data=record_file(**record))
    assert sent.json == {"state": "delivered"}
    return number


def counts(db: sqlite3.Connection) -> tuple[int, ...]:
    return tuple(db.execute("SELECT (SELECT count(*) FROM call), (SELECT count(*) FROM delivery)").fetchone())


def kept(house: House) -> list[str]:
    return [file.name for file in DELIVERIES.names(house.folder)]


def test_what_is_acknowledged_is_on_disk_and_judged_once(house: House) -> None:
    number = delivered(house)
    db = connect(house.folder)
    assert (counts(db), len(kept(house))) == ((0, 1), 1)
    page = house.person.get(f"/api/runs/{number}").json
    assert (page["state"], page["events"][-1]["words"]) == ("taken", "All packets have arrived and are being judged.")
    again = house.probe("PUT", f"/api/probe/jobs/{number}/record", data=record_file())
    assert again.json == {"state": "delivered"}
    assert len(house.person.get(f"/api/runs/{number}").json["events"]) == len(page["events"])
    loop.judge(db, for_s=60)
    assert (counts(db), kept(house)) == ((2, 0), [])
    assert run_store.run_by_id(db, number).state == "done"
    assert stale_runs(db, 10) == []  # by the values that the codec has now
    loop.judge(db, for_s=60)
    assert counts(db) == (2, 0)


def test_a_probe_gone_after_it_delivered_fails_nothing(house: House) -> None:
    number = delivered(house)
    db = connect(house.folder)
    db.execute("UPDATE probe SET last_contact_us = 1")
    assert job_store.silent_jobs(db) == []
    db.execute("DELETE FROM delivery")
    assert job_store.silent_jobs(db) == [number]


def test_a_webhook_that_hangs_holds_up_no_mail_and_no_letter(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    db = connect(house.folder)
    target_store.keep_mail_server(db, MailServer("mail.example", 25, "none", "", "", "tarnfell@customer.example"))
    target_store.keep_targets(db, 1, Targets(("ops@customer.example",), "https://hook.example/", "secret"))
    hung, over, stop = threading.Event(), threading.Event(), threading.Event()
    gone: queue.Queue[str] = queue.Queue()

    def hang(*_: Any) -> None:
        hung.set()
        over.wait()

    def send(_server: MailServer, to: list[str], *_: Any) -> None:
        gone.put(to[0])

    monkeypatch.setattr(webhook, "post", hang)
    monkeypatch.setattr(mail, "send", send)
    outbox.add(db, 1, None, "trial", "webhook", 1)
    clerk = threading.Thread(target=loop.keep_turning, args=(house.folder, stop, None, None, Sending()))
    clerk.start()
    try:
        assert hung.wait(60)
        outbox.add(db, 1, None, "trial", "mail", 1)
        letters.add(db, "a link", "tess@customer.example", "A letter", "Words")
        assert {gone.get(timeout=60), gone.get(timeout=60)} == {"ops@customer.example", "tess@customer.example"}
    finally:
        over.set()
        stop.set()
        clerk.join()


def test_a_document_that_takes_long_holds_up_no_page(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    made, asked = threading.Event(), threading.Event()

    def make(db: sqlite3.Connection, given_up: set[int]) -> None:
        asked.set()
        made.wait(rig.HANGS_S)

    monkeypatch.setattr(loop, "make", make)
    monkeypatch.setattr(CallLook, "at_once", 1)
    number = delivered(house)
    db = connect(house.folder)
    loop.judge(db, for_s=60)
    call = house.person.get(f"/api/runs/{number}/calls").json["calls"][0]["id"]
    assert house.person.get(f"/api/calls/{call}").json["awaited"] is not None
    stop = threading.Event()
    clerk = threading.Thread(target=loop.keep_turning, args=(house.folder, stop, None, None, Sending()))
    clerk.start()
    try:
        assert asked.wait(rig.HANGS_S)
        until = time.monotonic() + rig.HANGS_S
        while house.person.get(f"/api/calls/{call}").json["awaited"] is not None:
            assert time.monotonic() < until
            time.sleep(0.05)
    finally:
        stop.set()
        made.set()
        clerk.join()


def test_a_record_that_ends_the_clerk_is_refused_after_five_tries(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What the kernel ends leaves no exception behind: only the count tells."""
    number = delivered(house)
    db = connect(house.folder)

    def killed(*_: Any) -> None:
        raise SystemExit

    monkeypatch.setattr(deliveries, "judge_upload", killed)
    for _ in range(store.MAX_TRIES):
        with pytest.raises(SystemExit):
            deliveries.take_in_next(db, house.folder)
        assert run_store.run_by_id(db, number).state == "taken"
    assert deliveries.take_in_next(db, house.folder)
    run = run_store.run_by_id(db, number)
    assert (run.state, "in 5 tries" in (run.failure or "")) == ("failed", True)
    assert store.next_one(db) is None
    assert len(kept(house)) == 1  # for whoever looks into it


def test_a_full_disk_is_not_the_records_fault(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """However often it fails so, the record waits, and others are judged meanwhile."""
    first = delivered(house)
    db = connect(house.folder)
    real = deliveries.call_store.take_in

    def full(db: sqlite3.Connection, run: run_store.Run, judged: Any) -> None:
        if run.id == first:
            raise sqlite3.OperationalError("database or disk is full")
        real(db, run, judged)

    monkeypatch.setattr(deliveries.call_store, "take_in", full)
    for _ in range(store.MAX_TRIES + 3):
        db.execute("UPDATE delivery SET not_before_us = 0")
        before = time.time_ns() // 1000
        with pytest.raises(sqlite3.OperationalError):
            deliveries.take_in_next(db, house.folder)
    (one,) = [store.Delivery(*row) for row in db.execute("SELECT * FROM delivery")]
    assert (one.tries, one.refused) == (0, None)
    assert before + 10_000_000 <= one.not_before_us <= time.time_ns() // 1000 + 10_000_000
    # So that another may be placed, and is judged alone.
    db.execute("UPDATE job SET state = 'failed' WHERE id = ?", (first,))
    db.execute("UPDATE delivery SET not_before_us = not_before_us + 3600000000")
    second = delivered(house, delay_us=30_000)
    assert deliveries.take_in_next(db, house.folder)
    assert [run_store.run_by_id(db, n).state for n in (first, second)] == ["failed", "done"]
    monkeypatch.undo()
    db.execute("UPDATE delivery SET not_before_us = 0")
    assert deliveries.take_in_next(db, house.folder)
    assert run_store.run_by_id(db, first).state == "done"


def test_the_oldest_delivery_is_judged_first(house: House) -> None:
    delivered(house)
    db = connect(house.folder)
    db.execute("INSERT INTO delivery (run_id, sha256, received_us) VALUES (1, ?, 5)", ("0" * 64,))
    found = store.next_one(db)
    assert found is not None
    assert found.sha256 != "0" * 64


def test_files_that_nothing_names_are_swept_once_they_are_old(house: House) -> None:
    delivered(house)
    db = connect(house.folder)
    named = kept(house)
    folder = house.folder / DELIVERIES.name
    for name in ("0" * 64, "x.half"):
        (folder / name).write_bytes(b"x")
    for age_s, left in ((3_500, 3), (3_601, 1)):
        for file in folder.iterdir():
            os.utime(file, (time.time() - age_s,) * 2)
        DELIVERIES.sweep(house.folder, store.known(db))
        assert len(kept(house)) == left
    assert kept(house) == named


def test_one_clerk_and_one_server_to_a_folder(tmp_path: Path) -> None:
    """The second is told which is the first, and takes nothing of it: neither its far end nor the one-time code."""
    db = open_database(tmp_path)
    with writing(db):
        places.keep_server_far_end(db, "192.0.2.9", 4870, (16384, 16484), "key")
    with only_one(tmp_path, "clerk"), only_one(tmp_path, "server"):
        with pytest.raises(Held, match=f"Another clerk works with .*: process {os.getpid()} on .* since 20"):
            only_one(tmp_path, "clerk").__enter__()
        second = rig.cli("serve", "--data", str(tmp_path), "--bind", "127.0.0.1:9")
        assert second.returncode == 2
        assert f"Another server works with {tmp_path}: process {os.getpid()} " in second.stderr
        assert "one-time" not in second.stderr
    assert db.execute("SELECT name FROM far_end WHERE kind = 'server' AND archived_us IS NULL").fetchall()
    with only_one(tmp_path, "clerk"):
        pass


def test_a_clerk_that_is_killed_is_started_again_and_judges_what_came_meanwhile(house: House) -> None:
    """And none is left when its server is killed."""
    number = delivered(house)
    port = rig.free_port()
    command = ("-m", "tarnfell.cli", "serve", "--data", str(house.folder), "--bind", f"127.0.0.1:{port}")
    db = connect(house.folder)
    with rig.process(*command) as server:
        rig.eventually(lambda: run_store.run_by_id(db, number).state == "done", "the record to be judged")
        first = clerk_of(house.folder)
        os.kill(first, signal.SIGKILL)
        rig.eventually(lambda: clerk_of(house.folder) not in (0, first), "another clerk")
        second = clerk_of(house.folder)
        server.kill()
        rig.eventually(lambda: not Path(f"/proc/{second}").exists(), "the clerk to end with its server")


def clerk_of(folder: Path) -> int:
    words = (folder / "clerk.lock").read_text().split() if (folder / "clerk.lock").exists() else []
    return int(words[1]) if len(words) > 1 else 0


def test_a_fault_that_stays_is_met_more_and_more_seldom(house: House) -> None:
    """And told as seldom: what fills a disk must not fill it further. Once it is over, all goes on as before."""
    waits: list[float] = []
    fails = [True] * 9 + [False] * 2

    class Stop(threading.Event):
        def wait(self, timeout: float | None = None) -> bool:
            waits.append(timeout or 0.0)
            return len(waits) > len(fails)

    def turn(_: sqlite3.Connection) -> None:
        if fails[len(waits) - 1]:
            raise sqlite3.OperationalError("database or disk is full")

    loop._keep(house.folder, Stop(), turn, loop.TURN_S)
    assert waits == [0.25, 0.5, 1, 2, 4, 8, 16, 30, 30, 30, 0.25, 0.25]


def test_the_server_starts_its_clerk_again_whatever_ended_it(monkeypatch: pytest.MonkeyPatch) -> None:
    """One that cannot be started now, one that ended; one that may not work here is given longer."""
    waits: list[float] = []

    class Stop(threading.Event):
        def wait(self, timeout: float | None = None) -> bool:
            if timeout != 0.2:  # looking whether it is still there
                waits.append(timeout or 0.0)
            if len(waits) == 3:
                self.set()
            return self.is_set()

    ends = [OSError(11, "Resource temporarily unavailable"), 1, 2]

    def start() -> subprocess.Popen[bytes]:
        end = ends[len(waits)]
        if isinstance(end, OSError):
            raise end
        child = subprocess.Popen([sys.executable, "-c", f"raise SystemExit({end})"])
        child.wait()
        return child

    serve._keep("clerk", start, Stop())
    assert waits == [serve.AGAIN_S, serve.AGAIN_S, serve.HELD_S]
