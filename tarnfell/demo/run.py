"""The whole of Tarnfell on one machine: server, far end, path with faults, probe, and the demo's data."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from dataclasses import asdict
from datetime import UTC, datetime
from importlib.util import find_spec
from pathlib import Path

from tarnfell.demo.history import make_history
from tarnfell.demo.scenario import BENCH_SLUG, PASSWORD, USER_EMAIL
from tarnfell.demo.troubles import TROUBLES
from tarnfell.media.host import die_with
from tarnfell.media.keys import read_or_make_key
from tarnfell.probe.agent import enrol
from tarnfell.probe.state import State
from tarnfell.server.http.app import WEB_FOLDER
from tarnfell.store import places as place_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import FILE_NAME, connect, now_us, writing
from tarnfell.store.probes import invite

MEDIA_PORTS = "21000-21127"
_MARK = "demo.json"
_START_LIMIT_S = 120.0


WATCH_INTERVAL_MS = 1000
EF = 46


class DemoError(RuntimeError):
    """The demo cannot start; the text says why."""


def run_demo(port: int, folder: Path, fresh: bool = False) -> None:
    """Make the data if need be, start everything, print the address, and end it all when told to. Raises DemoError."""
    prepare(folder, fresh)
    bench = Bench(folder, port)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        bench.start()
        built = (WEB_FOLDER / "index.html").is_file()
        print(f"\n  Tarnfell is at  {bench.address}")
        print(f"  sign in with    {USER_EMAIL}   {PASSWORD}")
        if not built:
            print("  The front end is not built yet: run `make web`, then reload.")
        print("  Ctrl-C ends everything.\n", flush=True)
        bench.wait()
    except KeyboardInterrupt:
        print("\nEnding.")
    finally:
        bench.stop()


def prepare(folder: Path, fresh: bool = False, end: datetime | None = None) -> None:
    """The demo's data in ``folder``, made when it is not there; its week ends now or at ``end``. Raises DemoError."""
    mark = folder / _MARK
    if (folder / FILE_NAME).exists():
        if not mark.exists():
            raise DemoError(f"{folder} holds data that is not the demo's. Choose another folder with --data.")
        if not fresh:
            return
        for name in (FILE_NAME, f"{FILE_NAME}-wal", f"{FILE_NAME}-shm"):
            (folder / name).unlink(missing_ok=True)
    # Made aside and moved in whole, so that an interrupted start leaves nothing half made.
    aside = folder / "making"
    shutil.rmtree(aside, ignore_errors=True)
    make_history(aside, end or datetime.now(UTC), lambda words: print(f"  {words} …", flush=True))
    (aside / FILE_NAME).replace(folder / FILE_NAME)
    shutil.rmtree(aside)
    mark.write_text(json.dumps({"made_us": now_us()}))


def _for_browsers() -> list[str]:
    """The far end takes calls from browsers where the package that this needs is installed."""
    return ["--browser"] if find_spec("aiortc") else []


def _unused_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as one:
        return int(one.getsockname()[1])


class Bench:
    """The demo's processes."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder = folder
        self._port = port
        self.address = f"http://127.0.0.1:{port}/"
        # Addresses of this process's own, so that two demos on one machine do not meet.
        net = f"127.{64 + os.getpid() % 64}.{os.getpid() // 64 % 254}"
        self.path_address, self.far_address = f"{net}.2", f"{net}.3"
        self._control_port = 4870
        self._processes: dict[str, subprocess.Popen[bytes]] = {}

    def start(self) -> None:
        """Raises DemoError when a part does not come up."""
        _, key_file, _ = read_or_make_key(str(self.folder / "bench.key"))
        script = self.folder / "bench-path.json"
        self._offer_troubles(script)
        token = self._point_bench(key_file.read_text().strip())
        control = str(self._control_port)
        self._run("farend", "-m", "tarnfell.cli", "farend", "--bind", self.far_address, "--control-port", control,
                  "--media-ports", MEDIA_PORTS, "--key-file", str(key_file), *_for_browsers())  # fmt: skip
        self._run("path", "-m", "tarnfell.standin.path", "--listen", self.path_address, "--far", self.far_address,
                  "--control-port", control, "--media-ports", MEDIA_PORTS, "--script", str(script))  # fmt: skip
        self._run("server", "-m", "tarnfell.cli", "serve", "--data", str(self.folder), "--bind",
                  f"127.0.0.1:{self._port}", "--websocket", f"127.0.0.1:{_unused_port()}")  # fmt: skip
        self._await_server()
        enrol(self.address.rstrip("/"), token, State(self.folder / "bench-probe"))
        self._run("probe", "-m", "tarnfell.cli", "probe", "run", "--state", str(self.folder / "bench-probe"))

    def wait(self) -> None:
        """Until a part ends. Raises DemoError saying which."""
        while True:
            for name, process in self._processes.items():
                if process.poll() is not None:
                    raise DemoError(f"The {name} ended unexpectedly; see {self._log(name)}.")
            time.sleep(0.5)

    def stop(self) -> None:
        for process in reversed(self._processes.values()):
            if process.poll() is None:
                process.terminate()
        for process in self._processes.values():
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self._processes.clear()

    def restart(self, name: str) -> None:
        """End one part as hard as a power cut would, and start it again."""
        process = self._processes[name]
        process.kill()
        process.wait()
        self._run(name, *process.args[1:])  # type: ignore[index]

    def _offer_troubles(self, script: Path) -> None:
        """What the path does, and what else it could: the server lets a visitor choose."""
        script.write_text(json.dumps(TROUBLES[0].path, indent=1))
        told = {
            "site": BENCH_SLUG, "script": str(script.resolve()), "chosen": TROUBLES[0].key,
            "troubles": [asdict(one) for one in TROUBLES],
        }  # fmt: skip
        (self.folder / "bench.json").write_text(json.dumps(told, indent=1))

    def _point_bench(self, key: str) -> str:
        """Put the far end's present address and key on record; returns a new token for the bench's probe."""
        db = connect(self.folder)
        try:
            with writing(db):
                site_id = db.execute("SELECT id FROM site WHERE slug = ?", (BENCH_SLUG,)).fetchone()[0]
                db.execute(
                    "UPDATE far_end SET host = ?, port = ?, key = ? "
                    "WHERE id = (SELECT far_end_id FROM site_far_end WHERE site_id = ?)",
                    (self.path_address, self._control_port, key, site_id),
                )
                probe_id = db.execute("SELECT id FROM probe WHERE site_id = ?", (site_id,)).fetchone()[0]
                far_end_id = place_store.far_ends_of(db, site_id)[0].id
                watch_store.want(db, probe_id, far_end_id, WATCH_INTERVAL_MS, EF, None)
                return invite(db, probe_id)
        finally:
            db.close()

    def _run(self, name: str, *arguments: str) -> None:
        demo = os.getpid()
        with open(self._log(name), "ab") as log:
            # However the demo ends: a probe left behind would hold its folder, and the next demo could not start.
            self._processes[name] = subprocess.Popen(
                [sys.executable, *arguments], stdout=log, stderr=log, preexec_fn=lambda: die_with(demo)
            )

    def _log(self, name: str) -> Path:
        return self.folder / f"{name}.log"

    def _await_server(self) -> None:
        deadline = time.monotonic() + _START_LIMIT_S
        while time.monotonic() < deadline:
            if self._processes["server"].poll() is not None:
                break
            try:
                urllib.request.urlopen(f"{self.address}api/health", timeout=5).close()
                return
            except (TimeoutError, urllib.error.URLError, ConnectionError):
                time.sleep(0.2)
        raise DemoError(f"The server did not start; see {self._log('server')}. Is port {self._port} in use?")
