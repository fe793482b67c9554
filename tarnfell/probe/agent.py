"""The probe as a servant of a server: heartbeat, jobs, progress, and results that survive an outage.

Every result is on disk before it is sent and leaves the disk only when the
server has said that it has it. Nothing here judges.
"""

from __future__ import annotations

import json
import os
import platform
import queue
import signal
import socket
import sys
import threading
from dataclasses import asdict
from pathlib import Path
from typing import Any

from tarnfell.media.host import LINUX
from tarnfell.probe.call import CallError, CallPlan, LiveSecond, RunResult, place_calls
from tarnfell.probe.http import Refused, ServerClient, Unreachable
from tarnfell.wire.record import Record, join_parts

HEARTBEAT_S = 0.5
OUTAGE_PAUSE_S = 5.0


class AgentError(RuntimeError):
    """The probe cannot do what it was told; the text says why."""


def enrol(server: str, token: str, state: Path) -> dict[str, Any]:
    """Trade a site's one-time token for this probe's own secret, and keep it. Raises AgentError."""
    client = ServerClient(server)
    try:
        answer = client.post("/api/probe/enrol", {"token": token, "environment": environment()})
    except Unreachable as error:
        raise AgentError(f"The server at {server} cannot be reached: {error}.") from None
    except Refused as error:
        raise AgentError(str(error)) from None
    state.mkdir(parents=True, exist_ok=True)
    kept = {"server": server, "secret": answer["secret"], "name": answer["name"], "site": answer["site"]}
    _write(state / "enrolment.json", json.dumps(kept).encode(), private=True)
    return {"name": answer["name"], "site": answer["site"], "server": server}


def agent_status(state: Path) -> dict[str, Any]:
    """Who this probe is and what waits on its disk. Raises AgentError."""
    enrolment = _enrolment(state)
    return {
        "name": enrolment["name"],
        "site": enrolment["site"],
        "server": enrolment["server"],
        "waiting_results": len(_spooled(state)),
        **environment(),
    }


def environment() -> dict[str, Any]:
    """What the server should know of this machine."""
    return {
        "system": f"{platform.system()} {platform.release()}",
        "python": platform.python_version(),
        "host": socket.gethostname(),
        "cpus": os.cpu_count(),
        "receive_stamps": "kernel" if LINUX else "program",
    }


def run_agent(state: Path, stop: threading.Event | None = None) -> None:
    """Work until ``stop`` is set or the process is told to end. Raises AgentError."""
    enrolment = _enrolment(state)
    agent = _Agent(state, ServerClient(enrolment["server"], enrolment["secret"]), stop or threading.Event())
    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, lambda *_: agent.stop.set())
    agent.run()


class _Agent:
    def __init__(self, state: Path, client: ServerClient, stop: threading.Event) -> None:
        self.stop = stop
        self._state = state
        self._client = client
        self._current = state / "current-job.json"
        (state / "spool").mkdir(exist_ok=True)

    def run(self) -> None:
        self._own_up()
        silent = False
        while not self.stop.is_set():
            try:
                self._deliver()
                job = self._client.post("/api/probe/heartbeat", {"environment": environment()}).get("job")
                silent = False
            except Unreachable as error:
                if not silent:
                    print(
                        f"probe: the server is out of reach ({error}); results are kept here.",
                        file=sys.stderr,
                    )
                silent = True
                self.stop.wait(OUTAGE_PAUSE_S)
                continue
            except Refused as error:
                raise AgentError(f"The server turned this probe away: {error}") from None
            if job:
                self._do(job)
            else:
                self.stop.wait(HEARTBEAT_S)

    def _own_up(self) -> None:
        """A job that was on when this probe last ended was cut short: say so."""
        if self._current.exists():
            job = json.loads(self._current.read_text())
            self._spool_failure(int(job["id"]), "The probe was ended in the middle of the run. Place the calls again.")
            self._current.unlink()

    def _do(self, job: dict[str, Any]) -> None:
        number = int(job["id"])
        _write(self._current, json.dumps({"id": number}).encode())
        reporter = _Reporter(self._client, number, self.stop)
        try:
            result = place_calls(
                job["far_host"],
                int(job["far_port"]),
                job["far_key"].encode(),
                CallPlan(**job["plan"]),
                reporter.tell,
            )
        except CallError as error:
            self._spool_failure(number, str(error))
        else:
            _write(self._state / "spool" / f"{number:09d}.record", pack_run(result))
        finally:
            reporter.end()
            self._current.unlink()

    def _spool_failure(self, number: int, reason: str) -> None:
        _write(self._state / "spool" / f"{number:09d}.failure", json.dumps({"reason": reason}).encode())

    def _deliver(self) -> None:
        for path in _spooled(self._state):
            number = int(path.stem)
            try:
                if path.suffix == ".record":
                    self._client.put(f"/api/probe/jobs/{number}/record", path.read_bytes())
                else:
                    self._client.post(f"/api/probe/jobs/{number}/failure", json.loads(path.read_text()))
            except Refused as error:
                # The server will never take it; keep it aside for whoever comes looking.
                print(
                    f"probe: job {number} was not taken ({error}); kept as {path.name}.refused",
                    file=sys.stderr,
                )
                path.rename(path.with_suffix(path.suffix + ".refused"))
                continue
            path.unlink()


class _Reporter:
    """Tells the server each second without ever holding up the run; only the newest second matters."""

    def __init__(self, client: ServerClient, number: int, agent_stop: threading.Event) -> None:
        self._client = client
        self._number = number
        self._agent_stop = agent_stop
        self._seconds: queue.Queue[LiveSecond | None] = queue.Queue(maxsize=30)
        self._go_on = True
        self._thread: threading.Thread | None = None

    def tell(self, live: LiveSecond) -> bool:
        if self._thread is None:  # only now: the measuring processes are forked before any thread exists
            self._thread = threading.Thread(target=self._post, daemon=True)
            self._thread.start()
        try:
            self._seconds.put_nowait(live)
        except queue.Full:
            pass  # the server is away; it will have the record
        return self._go_on and not self._agent_stop.is_set()

    def end(self) -> None:
        if self._thread:
            try:
                self._seconds.put_nowait(None)
            except queue.Full:
                pass
            self._thread.join(5)

    def _post(self) -> None:
        while True:
            live = self._seconds.get()
            if live is None:
                return
            try:
                answer = self._client.post(f"/api/probe/jobs/{self._number}/progress", asdict(live))
                if answer.get("stop"):
                    self._go_on = False
            except (Unreachable, Refused):
                continue


def pack_run(result: RunResult) -> bytes:
    """A run as one file: first the clock record with the self-check, then a record a call."""
    head = Record(
        {**result.clock.meta, "self_check": result.self_check, "stopped": result.stopped},
        result.clock.columns,
    )
    return join_parts([head.serialize(), *(call.serialize() for call in result.calls)])


def _enrolment(state: Path) -> dict[str, Any]:
    try:
        return dict(json.loads((state / "enrolment.json").read_text()))
    except (OSError, ValueError):
        raise AgentError(
            f"This probe is not enrolled ({state} holds no enrolment). Use the command on the site's page."
        ) from None


def _spooled(state: Path) -> list[Path]:
    """Results not yet delivered, oldest first."""
    return sorted(p for p in (state / "spool").glob("*") if p.suffix in (".record", ".failure"))


def _write(path: Path, data: bytes, private: bool = False) -> None:
    """All of it or nothing, and on the disk before this returns."""
    aside = path.with_name(path.name + ".part")
    descriptor = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if private else 0o644)
    with os.fdopen(descriptor, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.replace(aside, path)
