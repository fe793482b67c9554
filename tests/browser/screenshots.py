"""Takes the pictures of docs/screenshots from the demo: ``make screenshots``."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tarnfell.demo.run import Bench, prepare
from tests import rig
from tests.browser.driver import Page, chromium

FOLDER = Path(__file__).parents[2] / "docs" / "screenshots"


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        prepare(Path(folder))
        port = rig.free_port()
        bench = Bench(Path(folder), port)
        try:
            bench.start()
            with chromium() as driver:
                take(Page(driver, bench.address))
        finally:
            bench.stop()


def take(page: Page) -> None:
    def shoot(name: str, settle_s: float = 1.0) -> None:
        time.sleep(settle_s)
        page.driver.save_screenshot(str(FOLDER / f"{name}.png"))
        print(f"  {name}.png")

    def scroll_to(section: str) -> None:
        page.driver.execute_script("document.getElementById(arguments[0]).scrollIntoView()", section)

    page.go("/")
    page.sign_in()
    page.go("/sites/skerry-road/brief")
    page.see("To show it")
    page.click(By.XPATH, "//label[contains(., 'directly')]")
    page.see("erlangs")
    shoot("brief")
    place_somebody(page, shoot)
    test_from_a_browser(page, shoot)
    page.go("/sites/bench/check")
    page.press("Check this site")
    page.see("of 12 rungs", within_s=120)
    shoot("check")
    walk_about(page, shoot)
    page.go("/sites/bench/line")
    page.see("The line may be full")
    page.click(By.XPATH, "//label[text()='The line may be full for that long']")
    page.press("Fill the line")
    page.see("Delay is one way", within_s=120)
    page.driver.execute_script("window.scrollTo(0, 330)")
    shoot("line")
    page.go("/sites/bench/load")
    page.see("95 % confidence")
    page.fill("up to", "24")
    page.fill("by", "4")
    page.press("At a time")
    page.see("Starts ")
    shoot("load")
    page.press("Now")
    page.fill("From", "2")
    page.fill("up to", "20")
    page.fill("by", "6")
    page.fill("Seconds each", "12")
    page.press("Start it now")
    page.see("8 concurrent calls now", within_s=60)
    shoot("staircase", 8)
    page.see(" needed.", within_s=120)
    page.go("/sites/bench")
    page.press("Place calls …")
    page.see("kbit/s each way")
    page.fill("Concurrent calls", "12")
    page.fill("Seconds each", "30")
    page.press("Place 12 calls")
    page.see("Both directions are flowing")
    shoot("live-run", 24)
    page.see("calls were acceptable", within_s=60)
    first = "//section[@aria-label='Each call']//a[normalize-space()='1']"
    rig.eventually(lambda: page.driver.find_elements(By.XPATH, first), "the first call")
    page.click(By.XPATH, first)
    page.see("Second by second")
    shoot("call")
    what_if(page, shoot)
    page.go("/")
    page.see("Needs a look")
    page.see("Skerry Road depot")
    shoot("today", 2)
    page.go("/engagements/merrow-sound-ferries/alerts")
    page.see("Sent to")
    shoot("alerts")
    page.go("/engagements/merrow-sound-ferries")
    page.see("Skerry Road depot")
    shoot("comparison")
    page.go("/sites/skerry-road")
    page.see("Day sheet")
    shoot("site")
    scroll_to("causes")
    shoot("causes-and-score")
    page.go("/sites/skerry-road/watch")
    page.see("By day")
    shoot("watch")
    page.click(By.XPATH, "//section[@aria-label='Episodes']//td/button")
    page.see("each ")
    scroll_to("bench")
    shoot("minute-bench")
    page.go("/sites/skerry-road/report")
    page.see("Draft PDF")
    shoot("report", 2)


def what_if(page: Page, shoot: Callable[..., None]) -> None:
    """Two changes at the depot."""
    page.go("/sites/skerry-road/what-if")
    page.see("Nothing was tried here yet")
    page.click(By.XPATH, "//label[.='Upload']")
    page.press("Try it")
    page.see("Gone", within_s=60)
    page.press("Reset")
    page.choose("Upload rate", "3 ×, 30 Mbit/s")
    page.press("Try it")
    page.see("at best", within_s=60)
    page.driver.execute_script("window.scrollTo(0, 0)")
    shoot("what-if")


def walk_about(page: Page, shoot: Callable[..., None]) -> None:
    """Three places, one of them behind a lossy link; in the dark version."""
    page.driver.execute_script("localStorage.setItem('tarnfell-theme', 'dark')")
    for place, trouble in (
        ("Ticket desk", "None"), ("Loading bay behind the cold store", "Loss in bursts"), ("Harbour master", "None"),
    ):  # fmt: skip
        page.go("/sites/bench/check")
        page.choose("Trouble on this bench’s path", trouble)
        page.go("/sites/bench/survey")
        page.fill("Place", place)
        page.fill("Measure for", "10")
        page.press("Measure here")
        page.see("s to go")
        page.await_gone("Measuring …", within_s=90)
        page.await_gone("Being judged.")
    shoot("survey", 3)
    page.go("/sites/bench/check")
    page.choose("Trouble on this bench’s path", "Changing by the minute")
    page.see("Twelve busy seconds")
    page.driver.execute_script("localStorage.setItem('tarnfell-theme', 'light')")


def place_somebody(page: Page, shoot: Callable[..., None]) -> None:
    """A second test point with a probe on its way."""
    page.go("/sites/bench/place")
    page.press("Add a test point …")
    Select(page.field("Type of test point")).select_by_visible_text("Behind the firewall")
    page.fill("Name used on site", "cellar rack")
    page.press("Add")
    page.see("No probe here yet.")
    page.press("Check reachability and round trip")
    page.see("from bench-probe", within_s=30)
    page.driver.find_elements(By.XPATH, "//button[normalize-space()='Place a probe …']")[-1].click()
    page.fill("Name of the probe", "rack-box")
    page.press("Create link")
    page.see("Copy link")
    page.driver.execute_script("window.scrollTo(0, 0)")
    shoot("places")


def test_from_a_browser(page: Page, shoot: Callable[..., None]) -> None:
    """Again and again until the machine lets a browser send on time."""
    page.go("/sites/bench/browser-tests")
    page.fill("For whom, or which desk", "Reception")
    page.fill("Calls at once (to 20)", "1")
    page.fill("Seconds (10 to 120)", "10")
    page.press("Create the link")
    page.see("Not opened yet")
    page.go(page.driver.find_element(By.CSS_SELECTOR, "[data-link]").text.removeprefix(page.address))
    for done in range(1, 9):
        page.press("Start the test" if done == 1 else "Test again")
        page.see("Packets are travelling", within_s=60)
        rig.eventually(lambda done=done: page.text().count("Jitter") == done, "a result", 120)  # type: ignore[misc]
        page.await_gone("being judged")
        if "good both ways" in page.text():
            break
    page.driver.execute_script("document.querySelectorAll('details').forEach(one => { one.open = false })")
    shoot("browser-test")


if __name__ == "__main__":
    main()
