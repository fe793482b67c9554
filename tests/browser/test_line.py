"""The line of the live bench filled from the screen: consent, the picture, and what it counts for."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tests.browser.driver import Page


def test_fill_the_line(page: Page) -> None:
    page.go("/sites/bench/load")
    page.press("fill the line beside calls")
    page.see("Fill the line of Live bench")
    page.see("about 15 MB at the brief’s rates")
    button = page.driver.find_element(By.XPATH, "//button[normalize-space()='Fill the line']")
    assert not button.is_enabled()  # nobody has said yes
    Select(page.field("Fill")).select_by_visible_text("Upload only")
    page.type_over("Each way", "3")
    page.see("It takes 12 s")
    page.driver.find_element(By.XPATH, "//label[text()='The line may be full for that long']").click()
    assert button.is_enabled()
    button.click()
    page.see("Filling the line …")
    page.see("Delay is one way", within_s=90)
    page.see("upload full")
    page.see("The line was filled by TCP with")
    assert page.driver.find_elements(By.CSS_SELECTOR, "svg[aria-label^='Delay of calls']")
    page.go("/sites/bench")
    page.see("Calls while the line is full")
