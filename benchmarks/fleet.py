"""Two hundred probes at one server: what the API takes while they speak, and while twenty of them upload.

The probes are simulated here by threads that speak as real ones do: a heartbeat as often as the server asks for it,
a record when told. Yardstick: the same request at the same server with no probe speaking.
"""

from __future__ import annotations

import http.client
import json
import statistics
import subprocess
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

from tarnfell.store import jobs, places, probes, runs, sites
from tarnfell.store.db import connect, open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.store.people import add_user
from tarnfell.wire.kinds.surroundings import Surroundings
from tests import rig
from tests.server.conftest import SITE, record_file

PROBES, UPLOADING = 200, 20
CALLS, SECONDS = 4, 30
ASKED = 150


def report() -> str:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        secrets, run_ids = _set_up(folder)
        port = 18_000 + (hash(name) % 2000)
        serve = ("-m", "tarnfell.cli", "serve", "--data", name, "--bind", f"127.0.0.1:{port}")
        with rig.process(*serve, stdout=subprocess.DEVNULL):
            rig.await_port("127.0.0.1", port)
            fleet = _Fleet(port, secrets, run_ids)
            person = Person(port)
            idle = person.times()
            fleet.begin()
            time.sleep(6)
            speaking = person.times()
            fleet.upload()
            uploading = person.times()
            took = fleet.uploads_done()
            fleet.end()
            long_s = _long_run(folder, port, secrets[0])
    rows = [("no probe speaks (yardstick)", idle), (f"{PROBES} probes heart-beating", speaking),
            (f"and {UPLOADING} uploading at once", uploading)]  # fmt: skip
    base = _p95(idle)
    lines = [
        "## Many probes",
        "",
        f"The list of engagements, asked {ASKED} times in a row, milliseconds. Each upload is {CALLS} calls of "
        f"{SECONDS} s each way, read, judged and written; the {UPLOADING} took {took:.1f} s together. "
        "Probes and server share this machine.",
        "",
        "| while | median | p95 | × yardstick (p95) |",
        "|---|---:|---:|---:|",
    ]
    lines += [f"| {w} | {statistics.median(t):.1f} | {_p95(t):.1f} | {_p95(t) / base:.1f} |" for w, t in rows]
    lines += [
        "",
        f"100 calls of five minutes (3 million packets), from upload to judged and shown: {long_s:.1f} s.",
    ]
    return "\n".join(lines)


def _set_up(folder: Path) -> tuple[list[str], list[int]]:
    """A site a probe, each enrolled; a run waiting for the first twenty."""
    db = open_database(folder)
    secrets, run_ids = [], []
    with writing(db):
        engagement = add_engagement(db, "bench", "Bench")
        adopt(db, add_user(db, Person.EMAIL, "Bench", Person.PASSWORD).id)
        far = places.add_far_end(db, "far", "", "192.0.2.1", 4870, "a-key-that-nobody-uses")
        for n in range(PROBES):
            site = sites.add_site(db, engagement, **{**SITE, "slug": f"site-{n}"})
            probe = probes.add_probe(db, site, places.add_test_point(db, site, "desk", "desk"), f"probe-{n}")
            enrolled = probes.enrol(db, probes.invite(db, probe), Surroundings(system="simulated"))
            assert enrolled is not None
            secrets.append(enrolled[1])
            if n < UPLOADING:
                run = runs.add_run(
                    db,
                    runs.RunSpec(
                        site_id=site,
                        probe_id=probe,
                        far_end_id=far,
                        purpose="watch",
                        codec="g711a",
                        ptime_ms=20,
                        calls=CALLS,
                        seconds=SECONDS,
                        dscp=46,
                    ),
                    "",
                )
                run_ids.append(run.id)
    db.close()
    return secrets, run_ids


class _Fleet:
    """Every probe's heartbeats, spread over a few threads; uploads in threads of their own."""

    def __init__(self, port: int, secrets: list[str], run_ids: list[int]) -> None:
        self._port, self._secrets, self._run_ids = port, secrets, run_ids
        self._stop = threading.Event()
        self._threads: list[threading.Thread] = []
        self._uploads: list[threading.Thread] = []
        self._began = 0.0

    def begin(self) -> None:
        for part in range(10):
            thread = threading.Thread(target=self._speak, args=(self._secrets[part::10],), daemon=True)
            thread.start()
            self._threads.append(thread)

    def _speak(self, secrets: list[str]) -> None:
        due = {secret: time.monotonic() + i * 0.2 for i, secret in enumerate(secrets)}
        while not self._stop.wait(0.01):
            for secret, at in due.items():
                if time.monotonic() >= at:
                    answer = ask(self._port, "POST", "/api/probe/heartbeat", secret, b'{"environment": null}')
                    due[secret] = time.monotonic() + float(json.loads(answer)["again_s"])

    def upload(self) -> None:
        body = record_file(calls=CALLS, packets=SECONDS * 50)
        self._began = time.monotonic()
        for secret, run_id in zip(self._secrets, self._run_ids, strict=False):
            path = f"/api/probe/jobs/{run_id}/record"
            thread = threading.Thread(target=ask, args=(self._port, "PUT", path, secret, body), daemon=True)
            thread.start()
            self._uploads.append(thread)

    def uploads_done(self) -> float:
        for thread in self._uploads:
            thread.join(120)
        return time.monotonic() - self._began

    def end(self) -> None:
        self._stop.set()
        for thread in self._threads:
            thread.join(10)


class Person:
    """Somebody signed in."""

    EMAIL, PASSWORD = "bench@merrow.example", "a-long-enough-password"

    def __init__(self, port: int) -> None:
        self._connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        body = json.dumps({"email": self.EMAIL, "password": self.PASSWORD})
        self._connection.request("POST", "/api/session", body, {"Content-Type": "application/json"})
        answer = self._connection.getresponse()
        answer.read()
        self._cookie = (answer.getheader("Set-Cookie") or "").split(";")[0]
        self._csrf = self.get("/api/session")["csrf"]

    def get(self, path: str) -> Any:
        try:
            return self._get(path)
        except http.client.RemoteDisconnected:  # idle for long: the server hung up, as a browser finds too
            self._connection.close()
            return self._get(path)

    def _get(self, path: str) -> Any:
        self._connection.request("GET", path, headers={"Cookie": self._cookie})
        return json.loads(self._connection.getresponse().read())

    def post(self, path: str, body: dict[str, Any]) -> Any:
        headers = {"Cookie": self._cookie, "X-CSRF-Token": self._csrf, "Content-Type": "application/json"}
        self._connection.request("POST", path, json.dumps(body), headers)
        return json.loads(self._connection.getresponse().read())

    def times(self) -> list[float]:
        found = []
        for _ in range(ASKED):
            begun = time.perf_counter()
            self.get("/api/engagements")
            found.append(1000 * (time.perf_counter() - begun))
        return found


def ask(port: int, method: str, path: str, secret: str, body: bytes) -> bytes:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=120)
    headers = {"Authorization": f"Bearer {secret}", "Content-Type": "application/json"}
    connection.request(method, path, body, headers)
    answer = connection.getresponse()
    text = answer.read()
    connection.close()
    if answer.status != 200:
        raise RuntimeError(f"{path}: {answer.status} {text[:200]!r}")
    return text


def _long_run(folder: Path, port: int, secret: str) -> float:
    """Upload a hundred calls of five minutes and read the run's page, as the browser does at its end."""
    db = connect(folder)
    with writing(db):
        run = runs.add_run(
            db,
            runs.RunSpec(
                site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=100, seconds=300, dscp=46
            ),
            "",
        )
        jobs.move(db, run.id, "taken", "")
    db.close()
    body = record_file(calls=100, packets=15_000)
    person = Person(port)
    begun = time.perf_counter()
    ask(port, "PUT", f"/api/probe/jobs/{run.id}/record", secret, body)
    assert person.get(f"/api/runs/{run.id}")["state"] == "done"
    return time.perf_counter() - begun


def _p95(times: list[float]) -> float:
    return sorted(times)[int(0.95 * len(times))]
