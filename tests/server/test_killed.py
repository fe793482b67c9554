"""Server, clerk and every process of a probe killed at random moments: nothing acknowledged is lost or doubled.

``KILLS=300 pytest tests/server/test_killed.py`` tries as many of each; the suite's own are few, at the same moments
each time.
"""

from __future__ import annotations

import http.client
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np

from tarnfell.core.days.rounds import Place, Rounds
from tarnfell.probe.state import Enrolment, State
from tarnfell.store import cells as cell_store
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import connect, writing
from tarnfell.store.files import DELIVERIES
from tarnfell.store.runs import RunSpec
from tarnfell.wire.record import join_parts
from tarnfell.work.watch import cells
from tests import rig
from tests.server.conftest import EMAIL, PASSWORD, House, built_house, record_file
from tests.work.watched import batches_of

KILLS = int(os.environ.get("KILLS", "6"))
RECORD = record_file(packets=60)


class Away(Exception):
    """No whole answer came."""


START_S = 1_772_409_600
"""The samples are of days ago: none waits for its cell to grow."""
ROUNDS = 10


class Field:
    """A person who places one run after the other, and the probe that delivers them and samples, until told to stop."""

    def __init__(self, house: House, port: int) -> None:
        self.house, self.port = house, port
        self.acknowledged: set[int] = set()
        self.sampled: list[int] = []
        """Seconds whose round was acknowledged."""
        self.stop = threading.Event()
        self._cookie, self._csrf = "", ""

    def work(self) -> None:
        while not self.stop.is_set():
            try:
                self._one()
            except Away:
                time.sleep(0.02)

    def _one(self) -> None:
        if not self._csrf:
            signed_in = self._ask("POST", "/api/session", {"email": EMAIL, "password": PASSWORD})
            self._csrf = signed_in["csrf"]
        job = self._probe("POST", "/api/probe/heartbeat", {"environment": {"system": "test"}, "holds": []})["job"]
        if job is None:
            self._ask("POST", "/api/sites/pier/runs", {"codec": "g711a", "ptime_ms": 20, "calls": 2, "seconds": 2,
                                                       "dscp": 46})  # fmt: skip
            return
        while not self.stop.is_set():
            try:
                self._probe("PUT", f"/api/probe/jobs/{job['id']}/record", RECORD)
            except Away:
                time.sleep(0.02)
                continue
            self.acknowledged.add(job["id"])
            self._samples()
            return

    def _samples(self) -> None:
        """Ten rounds more, each with an answer of its own; a minute after the ten before."""
        at = START_S + 6 * len(self.sampled) + np.arange(ROUNDS)
        rtt = np.vstack([at - START_S + 1.0, at - START_S + 2.0])
        places = (Place("gateway", "192.0.2.1"), Place("far-end", "far"))
        rounds = Rounds(places, at * 1_000_000, np.ones((2, ROUNDS), bool), rtt, 1_000_000)
        first, *more = batches_of(rounds, each=ROUNDS if len(self.sampled) % (2 * ROUNDS) else ROUNDS // 2)
        path, body = f"/api/probe/watches/1/samples/{first.first_us}", first.record
        if more:
            path, body = "/api/probe/watches/1/samples", join_parts([first.record, *(one.record for one in more)])
        while not self.stop.is_set():
            try:
                self._probe("PUT", path, body)
            except Away:
                time.sleep(0.02)
                continue
            self.sampled += at.tolist()
            return

    def _probe(self, method: str, path: str, body: Any) -> Any:
        return self._ask(
            method, path, body, {"Authorization": f"Bearer {self.house.secret}", "Content-Type": "application/json"}
        )

    def _ask(self, method: str, path: str, body: Any, headers: dict[str, str] | None = None) -> Any:
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=rig.HANGS_S)
        sent = body if isinstance(body, bytes) else json.dumps(body).encode()
        own = {"Cookie": self._cookie, "X-CSRF-Token": self._csrf, "Content-Type": "application/json"}
        try:
            connection.request(method, path, sent, headers or own)
            answer = connection.getresponse()
            text = answer.read()
        except (OSError, http.client.HTTPException):
            raise Away from None
        finally:
            connection.close()
        assert answer.status in (200, 409), (method, path, answer.status, text)
        if answer.status == 409:
            raise Away  # the run before is still being judged
        self._cookie = (answer.headers["Set-Cookie"] or self._cookie).partition(";")[0]
        return json.loads(text)


def clerk_of(folder: Path) -> int | None:
    try:
        return int((folder / "clerk.lock").read_text().split()[1])
    except (FileNotFoundError, IndexError, ValueError):
        return None


def left(data: Path) -> list[str]:
    """Files of deliveries, but for one that a kill left half written."""
    return [one.name for one in DELIVERIES.names(data) if not one.name.endswith(".half")]


def test_killed_at_any_moment_nothing_acknowledged_is_lost_or_doubled(tmp_path: Path) -> None:
    house, port, chance = built_house(tmp_path), rig.free_port(), random.Random(7)
    watch_store.want(connect(tmp_path), 1, 1, 1000, 46, None)
    command = [sys.executable, "-m", "tarnfell.cli", "serve", "--data", str(tmp_path), "--bind", f"127.0.0.1:{port}"]
    field = Field(house, port)
    worker = threading.Thread(target=field.work)
    worker.start()
    log = (tmp_path / "log").open("wb")
    server = subprocess.Popen(command, stderr=log)
    try:
        for _ in range(KILLS):
            rig.await_port("127.0.0.1", port, within_s=60)
            seen = len(field.acknowledged)
            rig.eventually(lambda seen=seen: len(field.acknowledged) > seen, "work to go on", within_s=60)
            time.sleep(chance.random() * 0.5)
            clerk = clerk_of(tmp_path)
            if clerk and chance.random() < 0.5:
                try:
                    os.kill(clerk, signal.SIGKILL)
                except ProcessLookupError:
                    pass  # it is just being started again
            else:
                server.kill()
                server.wait()
                server = subprocess.Popen(command, stderr=log)
        field.stop.set()
        worker.join()
        db = connect(tmp_path)
        rig.eventually(lambda: db.execute("SELECT count(*) FROM delivery").fetchone()[0] == 0, "all to be judged")
        rig.eventually(lambda: db.execute("SELECT count(*) FROM sample_batch").fetchone()[0] == 0, "all to be packed")
        rig.eventually(lambda: left(tmp_path) == [], "the files of what was judged to be let go of")
    finally:
        field.stop.set()
        worker.join()
        server.kill()
        server.wait()
        log.close()
    assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    done = {row[0] for row in db.execute("SELECT id FROM job WHERE state = 'done'")}
    assert field.acknowledged <= done
    per_run = db.execute("SELECT run_id, count(*) FROM call GROUP BY run_id").fetchall()
    assert {row[0]: row[1] for row in per_run} == dict.fromkeys(done, 2)
    directions = db.execute("SELECT count(*) FROM direction").fetchone()[0]
    assert directions == 4 * len(done)
    told = db.execute("SELECT job_id FROM job_event WHERE state = 'done'").fetchall()
    assert len(told) == len(done)
    assert left(tmp_path) == []
    assert "Traceback" not in (tmp_path / "log").read_text()
    parts = [cells.unpacked(cell) for cell in cell_store.cells_between(db, 1, 0, 4_000_000_000_000_000)]
    at_s = [at // 1000 for part in parts for at in part.at_ms.tolist()]
    assert len(field.sampled) >= ROUNDS
    assert set(field.sampled) <= set(at_s)
    assert len(at_s) == len(set(at_s)) <= len(field.sampled) + ROUNDS  # one may have come whose answer was lost
    found = np.concatenate([cells.rtt_ms(part.codes) for part in parts], axis=1)
    expected = np.array(at_s) - START_S
    assert np.allclose(found, np.vstack([expected + 2.0, expected + 1.0]), rtol=0.003)  # the far end is numbered first


def test_any_process_of_a_probe_killed_leaves_every_job_done_or_owned_up_to(tmp_path: Path) -> None:
    """Calls, and light work beside them, while now the supervisor and now a child is killed."""
    house, port, far, chance = built_house(tmp_path / "data"), rig.free_port(), rig.own_address(), random.Random(11)
    state = tmp_path / "probe"
    kept = {"server": f"http://127.0.0.1:{port}", "secret": house.secret, "name": "pier-probe", "site": "Pier office"}
    State(state).keep_enrolment(Enrolment(**kept))
    db = connect(tmp_path / "data")
    db.execute("UPDATE far_end SET host = ?, port = ?, key = ?", (far, rig.CONTROL_PORT, rig.KEY))
    asked: list[int] = []
    log = (tmp_path / "log").open("wb")
    command = [sys.executable, "-m", "tarnfell.cli", "probe", "run", "--state", str(state)]

    def work() -> None:
        """One run the clerk's clock would not wait for, and something light beside it."""
        with writing(db):
            spec = RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=1, dscp=46)
            asked.append(run_store.add_run(db, spec, "").id)
            asked.append(job_store.add(db, 1, 1, "distances", "", arguments={"far_ends": []}))

    def ended() -> int:
        return sum(job_store.job_by_id(db, number).state in ("done", "failed") for number in asked)

    serve = ("-m", "tarnfell.cli", "serve", "--data", str(tmp_path / "data"), "--bind", f"127.0.0.1:{port}")
    with rig.far_end(tmp_path, far), rig.process(*serve):
        rig.await_port("127.0.0.1", port)
        probe = subprocess.Popen(command, stderr=log)
        try:
            for _ in range(max(3, KILLS - 3)):
                rig.eventually(lambda: ended() == len(asked), "every job to end", within_s=120)
                work()
                before = ended()
                pid = probe.pid
                rig.eventually(
                    lambda before=before, pid=pid: rig.processes_below(pid) or ended() > before, "work to begin"
                )
                time.sleep(chance.random() * 4)
                victims = [probe.pid, *rig.processes_below(probe.pid)]
                victim = chance.choice(victims)
                if victim == probe.pid:
                    probe.kill()
                    probe.wait()
                    probe = subprocess.Popen(command, stderr=log)
                else:
                    rig.kill_hard(victim)
            work()
            rig.eventually(lambda: ended() == len(asked), "every job to end", within_s=120)
            rig.eventually(lambda: not State(state).spool.waiting(), "everything to be delivered")
            rig.eventually(lambda: not State(state).jobs_in_hand(), "nothing to be in hand")
        finally:
            probe.terminate()
            probe.wait()
            log.close()
    assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    for number in asked:
        job = job_store.job_by_id(db, number)
        told = [event.state for event in job_store.events(db, number)]
        assert told.count("done") == (job.state == "done"), (number, told)
        assert job.state == "done" or job.failure, number
        if job.kind == "calls":
            calls = db.execute("SELECT count(*) FROM call WHERE run_id = ?", (number,)).fetchone()[0]
            assert calls == (2 if job.state == "done" else 0), number
    last = [job_store.job_by_id(db, number) for number in asked[-2:]]
    assert [job.state for job in last] == ["done", "done"]
    assert not list((state / "spool").glob("*.refused"))
