"""Server and clerk killed at random moments while a probe works: nothing acknowledged is lost or doubled.

``KILLS=300 pytest tests/server/test_killed.py`` tries as many; the suite's own are few, at the same moments each time.
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

from tarnfell.store.db import connect
from tarnfell.store.files import DELIVERIES
from tests import rig
from tests.server.conftest import EMAIL, PASSWORD, House, built_house, record_file

KILLS = int(os.environ.get("KILLS", "6"))
RECORD = record_file(packets=60)


class Away(Exception):
    """No whole answer came."""


class Field:
    """A person who places one run after the other, and the probe that delivers them, until told to stop."""

    def __init__(self, house: House, port: int) -> None:
        self.house, self.port = house, port
        self.acknowledged: set[int] = set()
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
            return

    def _probe(self, method: str, path: str, body: Any) -> Any:
        return self._ask(
            method, path, body, {"Authorization": f"Bearer {self.house.secret}", "Content-Type": "application/json"}
        )

    def _ask(self, method: str, path: str, body: Any, headers: dict[str, str] | None = None) -> Any:
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=20)
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


def test_killed_at_any_moment_nothing_acknowledged_is_lost_or_doubled(tmp_path: Path) -> None:
    house, port, chance = built_house(tmp_path), rig.free_port(), random.Random(7)
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
    finally:
        field.stop.set()
        worker.join()
        server.kill()
        server.wait()
        log.close()
    assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    done = {row[0] for row in db.execute("SELECT id FROM run WHERE state = 'done'")}
    assert field.acknowledged <= done
    per_run = db.execute("SELECT run_id, count(*) FROM call GROUP BY run_id").fetchall()
    assert {row[0]: row[1] for row in per_run} == dict.fromkeys(done, 2)
    directions = db.execute("SELECT count(*) FROM direction").fetchone()[0]
    assert directions == 4 * len(done)
    told = db.execute("SELECT run_id FROM run_event WHERE state = 'done'").fetchall()
    assert len(told) == len(done)
    assert [f.name for f in DELIVERIES.names(tmp_path) if not f.name.endswith(".half")] == []
    assert "Traceback" not in (tmp_path / "log").read_text()
