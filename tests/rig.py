"""Real processes for the tests: a far end, and a stand-in path in front of it, on loopback addresses of their own."""

from __future__ import annotations

import csv
import io
import itertools
import json
import os
import signal
import socket
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from unittest.mock import patch

from tarnfell.cli import main

KEY = "a-key-for-the-tests-only"
CONTROL_PORT = 4870
MEDIA_PORTS = "22000-22127"
PATIENCE = 3
"""All limits of waiting are for a machine at its usual speed; one that is shared may have a third of it."""
HANGS_S = 300
"""What takes as long has hung: a machine that is shared may stand still for a minute."""
_numbers = itertools.count(1)


def own_address() -> str:
    """A loopback address no other test uses."""
    number = next(_numbers)
    return f"127.{128 + os.getpid() % 100}.{os.getpid() // 100 % 250}.{number}"


def await_port(address: str, port: int = CONTROL_PORT, within_s: float = HANGS_S / PATIENCE) -> None:
    deadline = time.monotonic() + PATIENCE * within_s
    while time.monotonic() < deadline:
        try:
            socket.create_connection((address, port), 1).close()
            return
        except OSError:
            time.sleep(0.05)
    raise AssertionError(f"nothing listens at {address} port {port}")


def process(
    *arguments: str, prefix: tuple[str, ...] = (), **options: Any
) -> AbstractContextManager[subprocess.Popen[bytes]]:
    """A Python process of ours, ended with the block."""
    return running(*prefix, sys.executable, *arguments, **options)


@contextmanager
def running(*command: str, **options: Any) -> Iterator[subprocess.Popen[bytes]]:
    """A program, ended with the block. What it says goes nowhere: a pipe that nobody reads fills up."""
    child = subprocess.Popen(command, stderr=subprocess.DEVNULL, **options)
    try:
        yield child
    finally:
        child.terminate()
        try:
            child.wait(10)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()


@contextmanager
def far_end(
    folder: Path, address: str, prefix: tuple[str, ...] = (), more: tuple[str, ...] = ()
) -> Iterator[subprocess.Popen[bytes]]:
    key_file = folder / "key"
    key_file.write_text(KEY)
    arguments = ("-m", "tarnfell.cli", "farend", "--bind", address, "--media-ports", MEDIA_PORTS)
    with process(*arguments, "--key-file", str(key_file), *more, prefix=prefix) as child:
        if not prefix:
            await_port(address)
        yield child


@contextmanager
def path(folder: Path, listen: str, far: str, script: dict[str, Any], prefix: tuple[str, ...] = ()) -> Iterator[Path]:
    """A stand-in path; gives the file of its truth log, which is whole once the block has ended."""
    script_file, truth = folder / "path.json", folder / "truth.csv"
    script_file.write_text(json.dumps(script))
    arguments = ("-m", "tarnfell.standin.path", "--listen", listen, "--far", far, "--control-port", str(CONTROL_PORT))
    more = ("--media-ports", MEDIA_PORTS, "--script", str(script_file), "--truth", str(truth))
    with process(*arguments, *more, prefix=prefix):
        if not prefix:
            await_port(listen)
        yield truth


def put_on_path(folder: Path, script: dict[str, Any]) -> None:
    """What a path that is there does from now on."""
    half = folder / "path.json.half"
    half.write_text(json.dumps(script))
    half.replace(folder / "path.json")


def free_port() -> int:
    """A TCP port of this machine that nobody listens on now."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def processes_below(pid: int) -> list[int]:
    """Children of a process, and theirs, parents first."""
    parents: dict[int, list[int]] = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            number, rest = stat.parent.name, stat.read_text().rpartition(")")[2].split()
        except OSError:
            continue  # it ended just now
        parents.setdefault(int(rest[1]), []).append(int(number))
    found = parents.get(pid, [])
    return [one for child in found for one in (child, *processes_below(child))]


def kill_hard(pid: int) -> None:
    try:
        os.kill(pid, signal.SIGKILL)
    except ProcessLookupError:
        pass  # it ended with its parent


def eventually(holds: Callable[[], Any], what: str, within_s: float = HANGS_S / PATIENCE) -> None:
    deadline = time.monotonic() + PATIENCE * within_s
    while not holds():
        assert time.monotonic() < deadline, f"waited in vain for {what}"
        time.sleep(0.1)


def fetch(address: str, file: Path, prefix: tuple[str, ...] = ()) -> None:
    """A file over HTTP, from wherever ``prefix`` puts the asker."""
    code = "import sys, urllib.request as r; open(sys.argv[2], 'wb').write(r.urlopen(sys.argv[1], timeout=120).read())"
    command = [*prefix, sys.executable, "-c", code, address, str(file)]
    subprocess.run(command, check=True, timeout=HANGS_S, capture_output=True)


def cli(*arguments: str, prefix: tuple[str, ...] = (), timeout: float = HANGS_S) -> subprocess.CompletedProcess[str]:
    command = [*prefix, sys.executable, "-m", "tarnfell.cli", *arguments]
    return subprocess.run(command, capture_output=True, text=True, timeout=timeout, check=False)


def cli_here(*arguments: str, typed: str = "") -> subprocess.CompletedProcess[str]:
    """The same without a process of its own, which costs more than what most verbs do."""
    said, faults = io.StringIO(), io.StringIO()
    with redirect_stdout(said), redirect_stderr(faults), patch.object(sys, "stdin", io.StringIO(typed)):
        try:
            status = main(list(arguments))
        except SystemExit as end:  # as argparse ends
            status = int(end.code or 0)
    return subprocess.CompletedProcess(arguments, status, said.getvalue(), faults.getvalue())


@dataclass(frozen=True)
class Truth:
    """What the path did to one stream: fates by count, how long it held each packet that passed, by number, and how
    many came twice."""

    fates: Counter[str]
    hold_us: dict[int, int]
    copies: int


def read_truth(file: Path) -> dict[tuple[str, int], Truth]:
    """By direction and SSRC. Sequence numbers are made whole from the order packets came in."""
    streams: dict[tuple[str, int], list[dict[str, str]]] = {}
    with open(file, newline="") as text:
        for row in csv.DictReader(text):
            if row["ssrc"]:
                streams.setdefault((row["direction"], int(row["ssrc"])), []).append(row)
    found = {}
    for key, rows in streams.items():
        first = int(min(rows, key=lambda r: int(r["in_us"]))["seq"])
        # A queue that drops a packet may yet take its copy.
        came = sorted((r for r in rows if r["fate"] in ("passed", "copied")), key=lambda r: r["fate"] == "passed")
        hold = {(int(r["seq"]) - first) % 65536: int(r["out_us"]) - int(r["in_us"]) for r in came}
        found[key] = Truth(Counter(r["fate"] for r in rows), hold, len(came) - len(hold))
    return found
