"""What a consultant knows beside the evidence: added, reworded, removed."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tests.browser.driver import Page


def test_a_cause_of_ones_own_is_added_reworded_and_removed(page: Page) -> None:
    page.go("/sites/ferrygate")
    page.press("Add cause …")
    page.fill("Cause", "The switch is out of support")
    page.fill("Who acts", "Ferrygate Harbour Trust")
    page.press("Add cause")
    page.see("added by Ines Harrow; takes no part in verdict and score")
    assert page.violations() == []
    page.press("Edit …")
    page.fill("Known from", "Its label says 2011.")
    page.press("Save")
    page.see("Its label says 2011.")
    page.click(By.CSS_SELECTOR, "[aria-label='Remove The switch is out of support']")
    page.await_gone("Its label says 2011.")
