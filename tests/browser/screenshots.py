"""Takes the pictures of docs/screenshots from the demo: ``make screenshots``."""

from __future__ import annotations

import socket
import tempfile
import time
from pathlib import Path

from selenium.webdriver.common.by import By

from tarnfell.demo.run import Bench, prepare
from tests.browser.driver import Page, chromium

FOLDER = Path(__file__).parents[2] / "docs" / "screenshots"


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        prepare(Path(folder))
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
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
    page.see("Sign in")
    shoot("sign-in")
    page.sign_in()
    page.go("/sites/bench")
    page.press("Place calls")
    page.see("kbit/s each way")
    page.fill("Calls at once", "12")
    page.fill("Seconds each", "30")
    shoot("place-calls")
    page.press("Place 12 calls")
    page.see("Both directions are flowing")
    shoot("live-run", 24)
    page.see("calls were acceptable", within_s=60)
    shoot("run-result")
    page.driver.find_element(By.XPATH, "//section[@aria-label='Each call']//a[normalize-space()='1']").click()
    page.see("Second by second")
    shoot("call")
    page.go("/engagements/merrow-sound-ferries")
    page.see("Skerry Road depot")
    shoot("comparison")
    page.go("/sites/skerry-road")
    page.see("Day sheet")
    shoot("site")
    scroll_to("watch")
    shoot("day-sheet-and-findings")
    page.driver.execute_script("localStorage.setItem('tarnfell-theme', 'dark')")
    page.go("/sites/skerry-road")
    page.see("Day sheet")
    shoot("site-dark")
    page.driver.execute_script("localStorage.setItem('tarnfell-theme', 'light')")
    page.go("/sites/skerry-road/report")
    page.see("PDF, A4")
    shoot("report", 2)


if __name__ == "__main__":
    main()
