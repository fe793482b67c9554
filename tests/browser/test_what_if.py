"""From a site's requirements to what media first at its router would make of them."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tests.browser.driver import Page

TRIED_S = 120.0


def test_a_change_is_tried_on_the_depots_own_calls(page: Page) -> None:
    before = page.read("/api/sites/skerry-road")["verdict"]
    page.go("/sites/skerry-road")
    page.press("What if …")
    page.see("Nothing was tried here yet")
    page.click(By.XPATH, "//label[.='Upload']")
    page.press("Try it")
    page.see("Packets queue on the line, upload", TRIED_S)
    page.see("97 % of calls acceptable in business hours: not met → shown")
    page.click(By.CSS_SELECTOR, "details summary")
    page.see("which this change removes")
    assert page.violations() == []
    # A rate that is left as it is and nothing else is no change.
    page.press("Reset")
    page.press("Try it")
    page.see("Nothing is changed")
    page.click(By.XPATH, "//button[starts-with(@aria-label, 'Remove: Media first')]")
    page.see("Nothing was tried here yet")
    assert page.read("/api/sites/skerry-road")["verdict"] == before
