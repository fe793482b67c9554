"""The real probe process against the real server process: outages, restarts, and results that arrive all the same."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tarnfell.store import jobs as job_store
from tarnfell.store import places
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, open_database, writing
from tests import rig
from tests.server.conftest import set_up


@dataclass
class Field:
    """Server and probe as processes, a far end, and the database to look into."""

    folder: Path
    state: Path
    port: int
    far: str
    token: str
    server: subprocess.Popen[bytes] | None = None
    probe: subprocess.Popen[bytes] | None = None

    def start_server(self) -> None:
        arguments = ("serve", "--data", str(self.folder), "--bind", f"127.0.0.1:{self.port}")
        self.server = self._start(*arguments)
        rig.eventually(self._answers, "the server to answer")

    def start_probe(self) -> None:
        self.probe = self._start("probe", "run", "--state", str(self.state))

    def _start(self, *arguments: str) -> subprocess.Popen[bytes]:
        with open(self.folder / f"{arguments[0]}.log", "ab") as log:
            return subprocess.Popen([sys.executable, "-m", "tarnfell.cli", *arguments], stdout=log, stderr=log)

    def _answers(self) -> bool:
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{self.port}/api/health", timeout=5).close()
            return True
        except OSError:  # not there yet, or slow to be
            return False

    def look(self) -> None:
        """As somebody with the site on the screen does: the probe speaks often for a while."""
        if self.server and self.server.poll() is None:
            urllib.request.urlopen(f"http://127.0.0.1:{self.port}/api/join/{self.token}", timeout=rig.HANGS_S).close()

    def place(self, seconds: float, host: str | None = None) -> int:
        self.look()
        db = connect(self.folder)
        with writing(db):
            if host:
                db.execute("UPDATE far_end SET host = ?", (host,))
            run = run_store.add_run(
                db,
                run_store.RunSpec(
                    site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=seconds, dscp=46
                ),
                "Requested by a test.",
            )
        db.close()
        return run.id

    def run(self, run_id: int) -> run_store.Run:
        db = connect(self.folder)
        try:
            return run_store.run_by_id(db, run_id)
        finally:
            db.close()

    def count(self, table: str) -> int:
        db = connect(self.folder)
        try:
            return int(db.execute(f"SELECT count(*) FROM {table}").fetchone()[0])
        finally:
            db.close()

    def await_state(self, run_id: int, *states: str) -> None:
        rig.eventually(lambda: self.run(run_id).state in states, f"the run to be {' or '.join(states)}")


def kill(process: subprocess.Popen[bytes] | None) -> None:
    if process and process.poll() is None:
        process.kill()
        process.wait()


class HalfDeaf:
    """Stands between probe and server and cuts the first uploads: once on the way there, once on the way back."""

    def __init__(self, server_port: int) -> None:
        self.cut = 0
        self._port = server_port
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.address = f"http://127.0.0.1:{self._listener.getsockname()[1]}"

    def __enter__(self) -> HalfDeaf:
        threading.Thread(target=self._serve, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._listener.close()

    def _serve(self) -> None:
        while True:
            try:
                sock, _ = self._listener.accept()
            except OSError:
                return
            with sock:
                self._pass(sock)

    def _pass(self, sock: socket.socket) -> None:
        asked = self._read_request(sock)
        upload = asked.startswith(b"PUT")
        if upload and self.cut == 0:
            self.cut += 1
            return
        with socket.create_connection(("127.0.0.1", self._port), 20) as server:
            server.sendall(asked)
            answer = b""
            while part := server.recv(65536):
                answer += part
        if upload and self.cut == 1:
            self.cut += 1
            return
        sock.sendall(answer)

    @staticmethod
    def _read_request(sock: socket.socket) -> bytes:
        asked = b""
        while b"\r\n\r\n" not in asked:
            part = sock.recv(65536)
            if not part:
                return asked
            asked += part
        head, _, body = asked.partition(b"\r\n\r\n")
        length = next(
            (int(h.split(b":")[1]) for h in head.split(b"\r\n") if h.lower().startswith(b"content-length")), 0
        )
        while len(body) < length:
            body += sock.recv(65536)
        return head + b"\r\n\r\n" + body


@pytest.fixture
def field(tmp_path: Path) -> Iterator[Field]:
    port = rig.free_port()
    far = rig.own_address()
    folder = tmp_path / "data"
    db = open_database(folder)
    with writing(db):
        _, token = set_up(db, far, rig.CONTROL_PORT, rig.KEY)
    db.close()
    made = Field(folder, tmp_path / "probe", port, far, token)
    with rig.far_end(tmp_path, far):
        try:
            made.start_server()
            done = rig.cli("probe", "enrol", "--server", f"http://127.0.0.1:{port}", "--token", token,
                           "--state", str(made.state))  # fmt: skip
            assert done.returncode == 0, done.stderr
            made.look()
            made.start_probe()
            yield made
        finally:
            kill(made.probe)
            kill(made.server)


def test_server_killed_in_the_middle_of_a_run(field: Field) -> None:
    """The calls go on; what was measured is delivered to the next server, once."""
    run_id = field.place(seconds=4)
    field.await_state(run_id, "running")
    kill(field.server)
    rig.eventually(lambda: list((field.state / "spool").glob("*.record")), "the record to be on the probe's disk")
    field.start_server()
    field.await_state(run_id, "done")
    assert field.count("call") == 2
    rig.eventually(lambda: not list((field.state / "spool").iterdir()), "the spool to empty")
    status = json.loads(rig.cli("probe", "status", "--json", "--state", str(field.state)).stdout)
    assert status["waiting_results"] == 0


def test_probe_killed_in_the_middle_of_a_run(field: Field) -> None:
    """The process that measures notices, ends, and keeps what it has; whoever starts the probe again delivers it."""
    run_id = field.place(seconds=60)
    field.await_state(run_id, "running")
    kill(field.probe)
    field.start_probe()
    field.await_state(run_id, "done")
    sent = connect(field.folder).execute("SELECT min(sent), max(sent) FROM direction").fetchone()
    assert 0 < sent[0] <= sent[1] < 60 * 50
    again = field.place(seconds=2)
    field.await_state(again, "done")
    assert field.count("call") == 4


def test_every_process_of_a_probe_killed_in_the_middle_of_a_run(field: Field) -> None:
    """As when the power goes. When it comes back it says so, and takes the next run."""
    run_id = field.place(seconds=60)
    field.await_state(run_id, "running")
    assert field.probe is not None
    children = rig.processes_below(field.probe.pid)
    kill(field.probe)
    for pid in children:
        rig.kill_hard(pid)
    field.start_probe()
    field.await_state(run_id, "failed")
    assert field.run(run_id).failure == "The probe was ended during the run. Place the calls again."
    again = field.place(seconds=2)
    field.await_state(again, "done")
    assert field.count("call") == 2


def test_far_end_that_is_not_there_fails_the_run_with_the_reason(field: Field) -> None:
    run_id = field.place(seconds=2, host=rig.own_address())
    field.await_state(run_id, "failed")
    assert "no far end listens" in str(field.run(run_id).failure)


def test_stop_from_the_server_ends_the_calls(field: Field) -> None:
    run_id = field.place(seconds=120)
    rig.eventually(lambda: field.count("job_second") >= 2, "two seconds of progress")
    db = connect(field.folder)
    job_store.ask_stop(db, run_id)
    db.close()
    field.await_state(run_id, "done")
    assert "Stopped early" in " ".join(e.words for e in job_store.events(connect(field.folder), run_id))
    assert field.count("call") == 2
    assert field.count("job_second") < 60


def test_server_killed_in_the_middle_of_the_upload(field: Field, tmp_path: Path) -> None:
    """The record is sent again whole, and taken once."""
    kill(field.probe)
    run_id = field.place(seconds=3)
    with HalfDeaf(field.port) as between:
        enrolment = field.state / "enrolment.json"
        kept = json.loads(enrolment.read_text())
        enrolment.write_text(json.dumps({**kept, "server": between.address}))
        field.start_probe()
        field.await_state(run_id, "done")
        rig.eventually(lambda: between.cut >= 2, "the answer to be cut off on its way back")
    assert field.count("call") == 2
    assert field.run(run_id).failure is None


def test_a_day_without_the_server_is_caught_up(field: Field) -> None:
    """Runs measured before the server went, another job asked for meanwhile: all arrive, in order, once."""
    first = field.place(seconds=2)
    field.await_state(first, "running")
    kill(field.server)
    rig.eventually(lambda: list((field.state / "spool").glob("*.record")), "the record to be on the probe's disk")
    kill(field.probe)
    db = connect(field.folder)
    # A day passes: what the server last heard is long ago, and it has given the run up.
    with writing(db):
        db.execute("UPDATE probe SET last_contact_us = last_contact_us - 86400000000")
        job_store.give_up_silent(db, [first])
        asked = job_store.ask(db, 1, 1, "distances", None, {"far_ends": []})
    db.close()
    second = field.place(seconds=2)
    field.start_probe()
    field.start_server()
    field.await_state(second, "done")
    assert field.run(first).state == "done"
    states = [e.state for e in job_store.events(connect(field.folder), first)]
    assert states == ["waiting", "taken", "running", "failed", "failed", "done"]  # twice failed: its packets came in
    assert field.count("call") == 4
    rig.eventually(lambda: job_store.job_by_id(connect(field.folder), asked).state == "done", "the other job's end")


def test_heavy_loss_on_a_real_path_stops_the_run_by_itself(field: Field, tmp_path: Path) -> None:
    """Six packets in ten are lost up the line; the run of two minutes ends after little more than ten seconds."""
    listen = rig.own_address()
    with rig.path(tmp_path, listen, field.far, {"seed": 5, "up": {"loss_pct": 60}, "down": {}}):
        run_id = field.place(seconds=120, host=listen)
        field.await_state(run_id, "done")
    words = " ".join(e.words for e in job_store.events(connect(field.folder), run_id))
    assert "Stopped by itself: at least 30 %" in words
    assert field.count("call") == 2
    assert 10 <= field.count("job_second") < 60


def test_probe_that_is_not_enrolled() -> None:
    done = rig.cli("probe", "run", "--state", "/nowhere/at/all")
    assert (done.returncode, done.stdout) == (1, "")
    assert "is not enrolled" in done.stderr
    assert "Traceback" not in done.stderr


def test_enrolment_with_a_wrong_token(field: Field, tmp_path: Path) -> None:
    url = f"http://127.0.0.1:{field.port}"
    done = rig.cli("probe", "enrol", "--server", url, "--token", "guess", "--state", str(tmp_path / "other"))
    assert done.returncode == 1
    assert "unknown, used, revoked or expired" in done.stderr


def test_a_far_end_beside_the_server_is_on_record_and_ends_with_it(tmp_path: Path) -> None:
    address = rig.own_address()
    port = rig.free_port()
    serve = ("-m", "tarnfell.cli", "serve", "--data", str(tmp_path), "--bind", f"127.0.0.1:{port}")
    with rig.process(*serve, "--answer", address, "--media-ports", "25000-25031") as server:
        rig.await_port(address)
        (far,) = places.far_ends(connect(tmp_path))
        assert (far.kind, far.host, far.port, far.media_low) == ("server", address, 4870, 25000)
        (tmp_path / "key").write_text(far.key)
        done = rig.cli("call", address, "--seconds", "1", "--key-file", str(tmp_path / "key"))
        assert done.returncode == 0, done.stderr
        kill(server)
    rig.eventually(lambda: refuses(address), "the far end to end")
    with rig.process(*serve):
        rig.await_port("127.0.0.1", port)
        assert places.far_ends(connect(tmp_path)) == []


def refuses(address: str) -> bool:
    try:
        socket.create_connection((address, rig.CONTROL_PORT), 1).close()
        return False
    except OSError:
        return True
