"""The demo's week, made once by the first that needs it: tests of the demo and of the screens share it."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import time
from datetime import datetime
from pathlib import Path

from tarnfell.demo.run import prepare

KEPT = Path(__file__).parents[1] / ".set-up" / "demo-data"
KEPT_S = 1800
"""The demo's week ends when it is made; tests that begin later make their own."""


def demo_data(folder: Path) -> None:
    """The demo's data in ``folder``: of the week that ends now, or at the environment's ``DEMO_END`` (ISO 8601)."""
    if end := os.environ.get("DEMO_END"):
        prepare(folder, end=datetime.fromisoformat(end))
        return
    KEPT.mkdir(parents=True, exist_ok=True)
    with (KEPT / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        made = KEPT / _digest()
        if not made.exists() or made.stat().st_mtime < time.time() - KEPT_S:
            for old in (one for one in KEPT.iterdir() if one.is_dir()):
                shutil.rmtree(old)
            prepare(KEPT / "making")
            (KEPT / "making").rename(made)
        shutil.copytree(made, folder, dirs_exist_ok=True)


def _digest() -> str:
    """Of everything that the data depends on."""
    found = hashlib.sha256()
    package = Path(__file__).parents[1] / "tarnfell"
    for file in sorted(one for one in package.rglob("*") if one.suffix in (".py", ".csv", ".sql")):
        found.update(file.read_bytes())
    return found.hexdigest()[:16]
