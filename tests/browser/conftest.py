"""The demo as a user starts it, once for all browser tests of a run, and a browser in front of it."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from tarnfell.demo.run import Bench
from tests import rig
from tests.browser.driver import Page, chromium
from tests.demo_data import demo_data


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
