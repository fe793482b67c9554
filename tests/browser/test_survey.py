"""A place surveyed and an address looked at, on the live bench; and the page of whoever carries the probe."""

from __future__ import annotations

from selenium.webdriver.support.select import Select

from tarnfell.demo.run import Bench
from tarnfell.store.db import connect
from tests.browser.driver import Page


def test_measure_a_place(page: Page, bench: Bench) -> None:
    page.go("/sites/bench/survey")
    page.see("Carry a laptop")
    page.fill("Place", "Ticket desk")
    page.fill("Measure for", "10")
    page.press("Measure here")
    page.see("s to go")
    page.see("To the gateway", within_s=90)
    page.see("lost 0.0 %, 0.0 %", within_s=90)
    page.press("Remove Ticket desk")
    page.press("Show 1 removed")
    page.see("Restore")
    assert page.violations() == []
    page.press("Restore Ticket desk")
    page.await_gone("Restore")
    assert page.violations() == []
    db = connect(bench.folder)
    ask = "SELECT code FROM invitation JOIN probe ON probe.id = probe_id WHERE name = 'bench-probe'"
    (code,) = db.execute(ask).fetchone()
    db.close()
    page.go(f"/join/{code}")
    page.see("Walk about with this computer")
    page.see("Ticket desk")
    assert page.violations() == []


def test_look_at_the_gateway(page: Page) -> None:
    page.go("/sites/bench/look")
    page.fill("Name or address", "127.0.0.1")
    page.fill("Every", "0.1")
    page.press("Look")
    page.see("so far")
    page.see("1400 bytes: the newest")
    page.press("Stop")
    page.see("Done.")
    assert page.violations() == []


def test_look_from_the_server(page: Page) -> None:
    page.go("/sites/bench/look")
    Select(page.field("From")).select_by_visible_text("the server")
    page.fill("Name or address", "127.0.0.1")
    page.fill("Rounds", "3")
    page.fill("Every", "0.2")
    page.press("Look")
    page.see("the server, ")
    page.see("1400 bytes: the newest 3 round trips", within_s=60)
