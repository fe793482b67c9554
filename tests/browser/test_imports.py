"""Imported files in the browser, and runs that are named, found and repeated."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tarnfell.exchange.writing import write_capture
from tests import rig
from tests.browser.driver import Page
from tests.exchange.test_capture import packets

IMPORTS = "/sites/skerry-road/imports"


def give(page: Page, file: Path) -> None:
    page.driver.find_element(By.CSS_SELECTOR, "input[type=file]").send_keys(str(file))


def ping(folder: Path, name: str, host: str, lost_every: int = 0) -> Path:
    start = datetime.now().replace(hour=3, minute=0, second=0, microsecond=0) - timedelta(days=2)  # noqa: DTZ005
    lines = [
        f"{start + timedelta(seconds=n)} 64 bytes from {host}: icmp_seq={n + 1} ttl=64 time=5.0 ms"
        for n in range(900)
        if not lost_every or n % lost_every
    ]
    file = folder / name
    file.write_text("\n".join([*lines, "an odd line"]))
    return file


def test_logs_of_ping_become_one_path_and_stand_beside_the_day_sheet(page: Page, tmp_path: Path) -> None:
    for role, file in (
        ("gateway", ping(tmp_path, "gateway.txt", "192.0.2.1")),
        ("edge", ping(tmp_path, "edge.txt", "198.51.100.1", lost_every=10)),
    ):
        page.go(IMPORTS)
        page.see("Ping to")
        Select(page.field("Ping to")).select_by_value(role)
        give(page, file)
        page.see("1 line was not understood.")
    assert page.violations() == []
    page.click(By.XPATH, "//label[normalize-space()='Show beside the day sheet']")
    Select(page.field("Test point")).select_by_index(1)
    number = page.driver.current_url.rpartition("/")[2]

    def both_said() -> bool:
        told = page.read(f"/api/imports/{number}")
        return bool(told["shown"] and told["test_point_id"])

    page.await_true(both_said, lambda: "it does not stand beside the day sheet")
    page.go("/sites/skerry-road")
    page.see("edge.txt")
    page.see("not counted in the verdict")
    assert page.violations() == []
    page.go(IMPORTS)
    page.see("of echoes are lost on the leg “line”, up to the provider’s edge.")
    page.see("Compared minute by minute, over 15 minutes")
    assert page.violations() == []


def test_a_capture_is_given_its_codec_its_name_and_its_pairs(page: Page, tmp_path: Path) -> None:
    up = packets(kind=111, step=960, ssrc=1)
    down = [replace(p, source=p.destination, destination=p.source) for p in packets(kind=111, step=960, ssrc=2)]
    file = tmp_path / "trunk.pcap"
    file.write_bytes(write_capture([*up, *down]))
    page.go(IMPORTS)
    page.see("Upload files")
    give(page, file)
    page.see("Call between 192.0.2.10:20000 and 198.51.100.20:30000")
    page.see("name the codec to have quality")
    for chosen in (1, 2):
        codec = next(
            s for s in page.driver.find_elements(By.CSS_SELECTOR, "article article select")
            if s.get_attribute("value") == ""
        )  # fmt: skip
        Select(codec).select_by_value("opus-24")
        rig.eventually(lambda n=chosen: page.text().count("type 111, Opus 24 kbit/s") == n, "the codec to be taken", 60)
    page.see("MOS in its worse direction")
    page.press("Separate")
    page.see("Other direction of the same call")
    page.press("Rename …")
    page.fill("Name of the file", "Reception, Tuesday")
    page.press("Save")
    page.see("Reception, Tuesday")
    assert page.violations() == []
    page.press("Delete …")
    page.see("removed for good")
    page.press("Delete")
    page.await_gone("Reception, Tuesday")


def test_a_run_is_named_found_and_repeated(page: Page) -> None:
    page.go("/sites/skerry-road/runs")
    page.see("Runs at Skerry Road depot")
    assert page.violations() == []
    page.click(By.CSS_SELECTOR, "table a[href*='/runs/']")
    page.see("Each call")
    page.press("Name and note …")
    page.fill("Name", "Before the new router")
    page.press("Save")
    page.see("Before the new router")
    page.press("Repeat this run")
    page.see("is offline. Check its power and network")
    page.go("/sites/skerry-road/runs")
    page.field("Find by name, note, codec, state or failure").send_keys("new router")
    page.see("1 run with “new router”")
    assert "words=new" in page.driver.current_url
