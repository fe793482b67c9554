"""The main path as a person walks it: sign in, compare, open a site, place calls, watch, result, one call, report."""

from __future__ import annotations

import time
import urllib.request
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tarnfell.demo.run import Bench
from tests import rig
from tests.browser.driver import Page, chromium

pytestmark = pytest.mark.browser


def test_sign_in_screen(bench: Bench) -> None:
    with chromium() as driver:
        page = Page(driver, bench.address)
        page.go("/sites/skerry-road")
        page.see("Sign in")
        assert page.violations() == []
        page.fill("Email address", "nobody@merrow.example")
        page.fill("Password", "not the password")
        page.press("Sign in")
        page.see("Wrong email address or password")


def test_comparison(page: Page) -> None:
    page.go("/")
    page.see("Needs a look")
    assert page.violations() == []
    page.press("Merrow Sound Ferries")
    page.see("Codec values")  # on this page and not on the one before
    text = page.text()
    for words in ("Harbour House", "12 / 12", "not ready", "ready", "Live bench", "Place the first calls"):
        assert words in text
    assert page.violations() == []
    # Most trouble first; filtering keeps what matches, in the address too.
    names = [e.text for e in page.driver.find_elements(By.CSS_SELECTOR, "tbody a.text-lg")]
    assert names.index("Skerry Road depot") < names.index("Harbour House")
    page.field("Filter").send_keys("fibre")
    page.await_gone("Skerry Road depot")
    page.see("Harbour House")
    assert "filter=fibre" in page.driver.current_url


def test_site_with_a_week_behind_it(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.see("somewhere on the path")
    text = page.text()
    for words in ("Next: Send the report to Merrow IT", "not ready", "of 100", "Day sheet", "12 concurrent calls"):
        assert words in text
    assert page.violations() == []
    # The day sheet by keyboard: a cell reads itself out, Enter opens its call.
    sheet = page.driver.find_element(By.CSS_SELECTOR, "svg[role=application]")
    sheet.send_keys(Keys.ARROW_UP, Keys.ARROW_UP, Keys.ARROW_UP)
    page.see("click to open the call")
    sheet.send_keys(Keys.ENTER)
    page.see("Recalculate with other settings")


def test_measure_explains_itself(page: Page) -> None:
    page.go("/engagements/merrow-sound-ferries")
    page.press("Calls shown / needed")
    page.see("From calls in business hours")
    assert page.violations() == []


def test_place_calls_watch_them_and_read_the_result(page: Page) -> None:
    page.go("/sites/bench")
    page.press("Place calls")
    page.see("kbit/s each way on the line")
    page.fill("Concurrent calls", "3")
    page.fill("Seconds each", "30")
    page.see("252 kbit/s each way")
    assert page.violations() == []
    page.press("Place 3 calls")
    page.see("Both directions are flowing at 50 packets a second.")
    assert page.violations() == []
    page.see("Upload: probe to far end")
    page.see("calls were acceptable: both directions at 4.0 MOS or better", within_s=40)
    text = page.text()
    for words in ("MOS-CQEN", "both ends read one clock", "of 4 500 packets", "waiting", "taken", "running", "done"):
        assert words in text
    assert page.violations() == []

    page.click(By.XPATH, "//section[@aria-label='Each call']//a[normalize-space()='2']")
    page.see("Call 2 of 3")
    page.see("Second by second")
    assert page.violations() == []


def test_buffer_and_codec_judge_the_same_packets_again(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.see("Evidence:")
    page.click(By.PARTIAL_LINK_TEXT, "call ")
    page.see("Recalculate with other settings")
    before = heard(page)
    thumb = page.driver.find_element(By.CSS_SELECTOR, "[role=slider]")
    thumb.send_keys(Keys.END)
    until(lambda: "buffer=400" in page.driver.current_url)
    until(lambda: heard(page) != before)
    page.field("As if the codec were").send_keys("G.729A")
    until(lambda: "codec=g729a" in page.driver.current_url)
    page.driver.back()
    page.see("Causes")


def heard(page: Page) -> str:
    return page.driver.find_element(By.XPATH, "//dt[normalize-space()='Late']/following-sibling::dd").text


def until(holds, within_s: float = 15) -> None:  # type: ignore[no-untyped-def]
    deadline = time.monotonic() + rig.PATIENCE * within_s
    while not holds():
        assert time.monotonic() < deadline
        time.sleep(0.1)


def test_stop_from_the_browser(page: Page) -> None:
    page.go("/sites/bench")
    page.press("Place calls …")
    page.fill("Concurrent calls", "2")
    page.fill("Seconds each", "120")
    page.press("Place 2 calls")
    page.see("Both directions are flowing")
    page.press("Stop and keep results")
    page.see("Stopped early; what was measured is kept.", within_s=30)
    page.see("acceptable")


def test_bad_numbers_get_a_sentence(page: Page) -> None:
    page.go("/sites/bench")
    page.press("Place calls …")
    page.fill("Concurrent calls", "10000")
    page.press("Place 10000 calls")
    page.see("10000 concurrent calls cannot be placed: one probe places 1 to 100.")
    page.press("Cancel")


def test_run_goes_on_while_the_server_is_away(page: Page, bench: Bench) -> None:
    page.go("/sites/bench")
    page.press("Place calls …")
    page.fill("Concurrent calls", "2")
    page.fill("Seconds each", "6")
    page.press("Place 2 calls")
    page.see("Both directions are flowing")
    bench.restart("server")
    page.see("acceptable", within_s=60)
    page.driver.get_log("browser")  # the requests of the seconds without a server


def test_report(page: Page, bench: Bench) -> None:
    page.go("/sites/skerry-road")
    page.press("Open the report")
    page.see("Draft PDF")
    assert page.violations() == []
    page.driver.switch_to.frame(page.driver.find_element(By.TAG_NAME, "iframe"))
    page.see("Requirements of the brief")
    for words in ("not ready", "Evidence by day and hour", "Causes", "Method", "of 100"):
        page.see(words)
    page.driver.switch_to.default_content()
    page.go("/api/sites/skerry-road/report.html")
    page.see("Requirements of the brief")
    assert page.violations() == []


def test_site_that_cannot_print_is_told_of(page: Page) -> None:
    page.go("/sites/nowhere")
    page.see("There is no site “nowhere”.")
    page.go("/nothing/here")
    page.see("There is nothing at this address.")
    page.driver.get_log("browser")  # the 404s asked for


def test_order_and_measure_are_in_the_address(page: Page) -> None:
    page.go("/engagements/merrow-sound-ferries?order=name")
    page.see("Skerry Road depot")
    names = [e.text for e in page.driver.find_elements(By.CSS_SELECTOR, "tbody a.text-lg")]
    assert names == sorted(names)
    page.field("Order").send_keys("least")
    until(lambda: "order=evidence" in page.driver.current_url)
    page.go("/sites/skerry-road?measure=added")
    page.see("Day sheet")
    chosen = page.driver.find_element(By.CSS_SELECTOR, "input[name=measure]:checked").find_element(By.XPATH, "..")
    assert chosen.text == "added delay"
    assert page.violations() == []


def test_from_call_to_call_by_key(page: Page) -> None:
    one, other = page.calls_of_a_run()[:2]
    page.go(f"/calls/{one}")
    page.see("Recalculate with other settings")

    def title() -> list[str]:
        return [one.text for one in page.driver.find_elements(By.TAG_NAME, "h1")]

    first = title()
    page.driver.find_element(By.TAG_NAME, "body").send_keys("]")
    until(lambda: page.driver.current_url.endswith(f"/calls/{other}"))
    until(lambda: title() not in ([], first))  # until the call is there its neighbours are not known
    page.driver.find_element(By.TAG_NAME, "body").send_keys("[")
    until(lambda: page.driver.current_url.endswith(f"/calls/{one}"))


def test_a_run_that_fails_says_why(page: Page, bench: Bench) -> None:
    """The far end is taken away while calls are on."""
    page.go("/sites/bench")
    page.press("Place calls …")
    page.fill("Concurrent calls", "2")
    page.fill("Seconds each", "60")
    page.press("Place 2 calls")
    page.see("Both directions are flowing")
    bench.restart("farend")
    page.see("These calls count as not acceptable", within_s=30)
    page.see("went away")
    page.see("0 of 2 calls were acceptable")
    assert page.violations() == []


def test_hundred_calls_live(page: Page) -> None:
    """More than the bench's line carries: every call has its thread, and the words stay true."""
    page.go("/sites/bench")
    page.press("Place calls …")
    page.fill("Concurrent calls", "100")
    page.fill("Seconds each", "12")
    page.see("420 % of the line up")
    page.note_status()
    page.press("Place 100 calls")
    page.see("0 of 100 calls were acceptable", within_s=120)
    said = page.noted()
    # A machine that is busy may show no second of it at all; what it does show must be true.
    assert not any(s.startswith("Both directions are flowing") for s in said), said
    page.see("76–100")
    page.press("76–100")
    until(lambda: "page=3" in page.driver.current_url)


def test_downloads(page: Page, bench: Bench) -> None:
    """What the buttons link to is there, with the browser's own session."""
    cookie = page.driver.get_cookie("tarnfell")
    assert cookie is not None
    for address, start in (
        ("api/sites/skerry-road/report.json", b"{"),
        (f"api/calls/{page.calls_of_a_run()[0]}/up.csv", b"seq,sent_us,recv_us"),
    ):
        request = urllib.request.Request(bench.address + address, headers={"Cookie": f"tarnfell={cookie['value']}"})
        with urllib.request.urlopen(request, timeout=rig.HANGS_S) as answer:
            assert answer.read().startswith(start), address


def test_documents_are_made_and_saved(page: Page, tmp_path: Path) -> None:
    """Asked for with one press, made by the clerk, saved by the browser by itself."""
    page.driver.execute_cdp_cmd("Browser.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(tmp_path)})
    page.go("/sites/skerry-road/report")
    page.press("Draft PDF")
    until(lambda: list(tmp_path.glob("*.pdf")), 60)
    assert (tmp_path / "skerry-road-readiness.pdf").read_bytes().startswith(b"%PDF-")
    page.see("Draft PDF")  # and may be asked for again
    page.press("Calls, CSV")
    until(lambda: list(tmp_path.glob("*.csv")), 60)
    assert (tmp_path / "skerry-road-calls.csv").read_bytes().startswith(b"run,call,direction,")
    run = page.read("/api/sites/skerry-road/runs")["runs"][0]["id"]
    page.go(f"/runs/{run}")
    page.press("Packets, pcap")
    until(lambda: list(tmp_path.glob("*.pcap")), 60)
    assert (tmp_path / f"run{run}.pcap").read_bytes()[:4] in (b"\xd4\xc3\xb2\xa1", b"\xa1\xb2\xc3\xd4")


def test_sign_out(bench: Bench) -> None:
    with chromium() as driver:
        page = Page(driver, bench.address)
        page.sign_in()
        page.press("Sign out")
        page.see("Email address")
        page.go("/sites/skerry-road")
        page.see("Email address")


def test_dark_and_keys(page: Page) -> None:
    page.go("/sites/harbour-house")
    page.see("12 of 12 concurrent calls shown")
    page.driver.find_element(By.TAG_NAME, "body").send_keys("t")
    assert page.driver.execute_script("return document.documentElement.dataset.theme") == "dark"
    assert page.violations() == []
    page.driver.find_element(By.TAG_NAME, "body").send_keys("?")
    page.see("from cell to cell on the day sheet")
    assert page.violations() == []
    page.press("Close")
    page.driver.find_element(By.TAG_NAME, "body").send_keys("t")


def test_parts_leave_logs_where_the_demo_says(bench: Bench) -> None:
    folder = Path(bench.folder)
    assert {f.name for f in folder.glob("*.log")} == {"farend.log", "path.log", "server.log", "probe.log"}
    assert "Traceback" not in (folder / "server.log").read_text()


def test_a_remedy_is_marked_and_taken_back(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.press("Mark remedy applied …")
    page.fill("What was done", "fair queueing on the router")
    when = page.driver.find_element(By.CSS_SELECTOR, "input[type='datetime-local']")
    page.driver.execute_script(
        "const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;"
        "set.call(arguments[0], arguments[1]); arguments[0].dispatchEvent(new Event('input', {bubbles: true}));",
        when,
        "2026-01-05T09:00",
    )
    assert page.violations() == []
    page.press("Save")
    page.see("fair queueing on the router. Evidence from before is set aside; marked by Ines Harrow.")
    assert page.violations() == []
    page.press("Remove mark")
    until(lambda: "fair queueing on the router." not in page.text())
