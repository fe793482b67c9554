"""Every screen on a phone, at 200 % and by keyboard: WCAG 2.2 reflow, skip link, focus, shortcuts."""

from __future__ import annotations

import re

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.driver import Page

SCREENS = (
    "/", "/engagements/merrow-sound-ferries", "/engagements/merrow-sound-ferries/codecs",
    "/engagements/merrow-sound-ferries/alerts", "/engagements/merrow-sound-ferries/people",
    "/engagements/merrow-sound-ferries/shown", "/account", "/engagements/merrow-sound-ferries/brand",
    "/sites/skerry-road/what-if",
    "/engagements/merrow-sound-ferries/new-site", "/sites/skerry-road", "/sites/skerry-road/brief",
    "/sites/skerry-road/place", "/sites/skerry-road/load", "/sites/skerry-road/runs", "/sites/skerry-road/imports",
    "/sites/skerry-road/report", "/sites/skerry-road/watch",
    "/sites/bench/browser-tests", "/sites/bench/check", "/sites/bench/survey", "/sites/bench/look",
    "/sites/bench/packets",
    "RUN", "CALL", "COMPARE",
)  # fmt: skip


PHONE, ENLARGED = 360, 640
"""CSS pixels: a phone, and a desktop at 200 %."""


def real(page: Page, path: str) -> str:
    if path not in ("RUN", "CALL", "COMPARE"):
        return path
    run, other = (one["id"] for one in page.read("/api/sites/skerry-road/runs?limit=2")["runs"])
    if path == "COMPARE":
        return f"/compare?first={run}&second={other}"
    return f"/runs/{run}" if path == "RUN" else f"/calls/{page.calls_of_a_run()[0]}"


@pytest.mark.parametrize("path", SCREENS)
def test_no_screen_scrolls_sideways(page: Page, path: str) -> None:
    """Tables and day sheets may scroll in their own box."""
    address = real(page, path)
    try:
        resize(page, PHONE)
        page.go(address)
        page.driver.implicitly_wait(10)
        page.driver.find_element(By.CSS_SELECTOR, "main h1, main iframe")
        fits(page, PHONE)
        assert page.violations() == []  # what is read aloud is the same at both
        resize(page, ENLARGED)
        fits(page, ENLARGED)
    finally:
        page.driver.implicitly_wait(0)
        page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


def resize(page: Page, width: int) -> None:
    page.driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )


def fits(page: Page, width: int) -> None:
    page.driver.execute_async_script(_STILL)
    assert page.driver.execute_script("return [innerWidth, document.documentElement.scrollWidth <= innerWidth]") == [
        width,
        True,
    ], page.driver.execute_script(_TOO_WIDE)


_STILL = """
const done = arguments[0];
let timer = setTimeout(done, 300);
new MutationObserver(() => { clearTimeout(timer); timer = setTimeout(done, 300); })
  .observe(document.body, {subtree: true, childList: true, characterData: true});
setTimeout(done, 3000);
"""
"""What a page holds comes after its title; one that is live never stands still."""
_TOO_WIDE = """
const clipped = e => e && (getComputedStyle(e).overflowX !== 'visible' || clipped(e.parentElement));
return [...document.querySelectorAll('body *')]
  .filter(e => e.getBoundingClientRect().right > innerWidth + 0.5 && !clipped(e.parentElement)).slice(0, 5)
  .map(e => e.tagName + '.' + e.className + ': ' + e.textContent.slice(0, 60));
"""


def focused(page: Page) -> str:
    return str(page.driver.execute_script("return document.activeElement.id || document.activeElement.textContent"))


def test_the_first_tab_skips_to_the_content_and_moves_take_the_focus_along(page: Page) -> None:
    page.go("/engagements/merrow-sound-ferries")
    page.see("Skerry Road depot")
    body = page.driver.find_element(By.TAG_NAME, "body")
    body.send_keys(Keys.TAB)
    assert focused(page) == "Skip to the content"
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    assert focused(page) == "main"
    page.press("Skerry Road depot")
    page.see("Day sheet")
    assert focused(page) == "main"


def test_single_key_shortcuts_can_be_switched_off(page: Page) -> None:
    page.go("/sites/harbour-house")
    page.see("Day sheet")

    def theme() -> str:
        return str(page.driver.execute_script("return document.documentElement.dataset.theme ?? 'light'"))

    body = page.driver.find_element(By.TAG_NAME, "body")
    before = theme()
    page.press("Shortcuts ?")
    page.click(By.XPATH, "//label[normalize-space()='Single-key shortcuts']")
    page.press("Close")
    body.send_keys("t")
    assert theme() == before
    page.press("Shortcuts ?")
    page.click(By.XPATH, "//label[normalize-space()='Single-key shortcuts']")
    page.press("Close")
    body.send_keys("t")
    assert theme() != before
    body.send_keys("t")


def test_calm_and_not_measured_differ_without_colour(page: Page) -> None:
    page.go("/sites/harbour-house")
    page.see("Underlined cells were measured.")
    # The mark is a line in ink under each measured cell, and none under the others.
    lines = page.driver.execute_script(
        "return [...document.querySelectorAll('svg[role=application] path')].map(p => p.getAttribute('d'))"
    )
    marks = [line.count("M") for line in lines if re.fullmatch(r"(M[\d.]+ [\d.]+h7\.6)+", line or "")]
    site = page.driver.execute_async_script(
        "fetch('/api/sites/harbour-house').then(answer => answer.json()).then(arguments[0])"
    )
    # Whatever the time of day: the newest day may be whole, half or just begun.
    measured = [sum(one is not None for one in day["call_id"]) for day in site["sheet"]["days"]]
    assert marks == [count for count in measured if count]
    # Every ten minutes of business, every half hour of the night.
    assert 60 < max(marks) < 144
