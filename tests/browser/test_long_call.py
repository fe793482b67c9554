"""A call of more packets than are judged in a request: its page waits for the clerk, and its packets are made by it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tarnfell.demo.run import Bench
from tarnfell.store.db import connect, writing
from tarnfell.wire.record import Record, split_parts
from tests.browser.driver import Page
from tests.server.conftest import record_file

PACKETS = 20_000
"""Each way: 400 seconds."""
LOST = tuple(range(9000, 9040))


@pytest.fixture
def long_call(bench: Bench, page: Page) -> Iterator[int]:
    """One more call of a run that is there; without figures, so that nothing counts it."""
    run = page.read(f"/api/calls/{page.calls_of_a_run()[0]}")["run_id"]
    record = split_parts(record_file(calls=1, packets=PACKETS, lost=LOST))[1]
    started_us = Record.parse(record).meta["start_us"]
    db = connect(bench.folder)
    with writing(db):
        made = db.execute(
            "INSERT INTO call (run_id, number, started_us, record) VALUES (?, 999, ?, ?)", (run, started_us, record)
        )
    yield int(made.lastrowid or 0)
    with writing(db):
        db.execute("DELETE FROM call WHERE id = ?", (made.lastrowid,))
    db.close()


def test_a_long_call_is_calculated_by_the_clerk(page: Page, long_call: int, tmp_path: Path) -> None:
    page.go(f"/calls/{long_call}")
    page.see("Calculated from 40 000 packets.")
    page.see("Each cell is the worst second of 2 s.")
    page.see("40 of 20000, 0.20 %")
    page.see("mouth-to-ear 100 ms")
    cells = page.driver.find_elements(By.CSS_SELECTOR, "[aria-label='1 of 400 seconds below 4 MOS'] > span")
    assert len(cells) == 200
    assert (cells[90].get_attribute("title") or "").startswith("3:00 to 3:02: worst second ")
    heard = page.driver.find_element(By.CSS_SELECTOR, "audio").get_attribute("src")
    assert page.driver.execute_async_script("fetch(arguments[0]).then(a => arguments[1](a.status))", heard) == 200
    page.driver.find_element(By.CSS_SELECTOR, "[role=slider]").send_keys(Keys.PAGE_UP)
    page.see("mouth-to-ear 150 ms")
    assert "buffer=110" in page.driver.current_url
    page.driver.execute_cdp_cmd("Browser.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(tmp_path)})
    page.press("Packets up, CSV")
    file = tmp_path / f"call{long_call}-up.csv"
    page.await_true(file.exists, lambda: "no file was saved")
    assert len(file.read_text().splitlines()) == 1 + PACKETS
    assert page.violations() == []
