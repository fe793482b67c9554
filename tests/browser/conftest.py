"""The demo as a user starts it, once for all browser tests of a run, and a browser in front of it."""

from __future__ import annotations

import fcntl
import hashlib
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tarnfell.demo.run import Bench, prepare
from tests import rig
from tests.browser.driver import Page, chromium

KEPT = Path(__file__).parents[2] / ".set-up" / "demo-data"
KEPT_S = 1800
"""The demo's week ends when it is made; a run of these tests that begins later makes its own."""


def demo_data(folder: Path) -> None:
    """The demo's data in ``folder``: made once by the first that needs it, and copied by the others."""
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
    package = Path(__file__).parents[2] / "tarnfell"
    for file in sorted(one for one in package.rglob("*") if one.suffix in (".py", ".csv", ".sql")):
        found.update(file.read_bytes())
    return found.hexdigest()[:16]


@pytest.fixture(scope="session")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Bench]:
    if not shutil.which("chromedriver"):
        pytest.skip("needs Debian's chromium and chromium-driver")
    folder: Path = tmp_path_factory.mktemp("bench")
    demo_data(folder)
    port = rig.free_port()
    made = Bench(folder, port)
    try:
        made.start()
        yield made
    finally:
        made.stop()


@pytest.fixture(scope="session")
def browser(bench: Bench) -> Iterator[Page]:
    with chromium() as driver:
        page = Page(driver, bench.address)
        page.sign_in()
        yield page


@pytest.fixture
def page(browser: Page) -> Iterator[Page]:
    yield browser
    # A 401 before signing in is an answer; anything else on the console is a fault.
    faults = [e["message"] for e in browser.driver.get_log("browser") if e["level"] == "SEVERE"]
    assert [f for f in faults if "401" not in f and "409" not in f and "422" not in f] == []
