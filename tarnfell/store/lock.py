"""One server and one clerk on a data folder at a time; the second is told who holds it."""

from __future__ import annotations

import fcntl
import os
import platform
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal, get_args

Role = Literal["server", "clerk"]
ROLES: tuple[Role, ...] = get_args(Role)
_LOOK_S = 0.1


class Held(RuntimeError):
    """Somebody else has the folder; the text says who."""


@contextmanager
def only_one(folder: Path, role: Role, wait_s: float = _LOOK_S) -> Iterator[None]:
    """Hold ``folder`` in this role; the system lets go when the process ends, however it ends. Raises Held or OSError.

    ``wait_s`` is how long one that is just ending is waited for; whoever only looks has the lock for an instant.
    """
    until = time.monotonic() + wait_s
    folder.mkdir(parents=True, exist_ok=True)
    with open(folder / f"{role}.lock", "a+", encoding="utf-8") as file:
        while not _locked(file.fileno()):
            if time.monotonic() >= until:
                file.seek(0)
                raise Held(f"Another {role} works with {folder}: {file.read().strip() or 'it does not say which'}.")
            time.sleep(_LOOK_S)
        file.truncate(0)
        file.write(f"{_this_process()} since {datetime.now(UTC):%Y-%m-%d %H:%M:%S} UTC\n")
        file.flush()
        yield


def is_held(folder: Path, role: Role) -> bool:
    """Whether a process works with the folder in this role now."""
    try:
        with open(folder / f"{role}.lock", encoding="utf-8") as file:
            return not _locked(file.fileno())
    except FileNotFoundError:
        return False


def other_holder(folder: Path, role: Role) -> str:
    """The process that works with the folder in this role, if it is another one; else empty."""
    if not is_held(folder, role):
        return ""
    told = (folder / f"{role}.lock").read_text(encoding="utf-8").strip()
    return "" if told.startswith(f"{_this_process()} ") else told or "it does not say which"


def _this_process() -> str:
    return f"process {os.getpid()} on {platform.node()}"


def _locked(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True
