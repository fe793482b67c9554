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
    page.fill("Each way", "3")
    page.see("It takes 12 s")
    page.click(By.XPATH, "//label[text()='The line may be full for that long']")
    assert button.is_enabled()
    button.click()
    page.see("Filling the line …")
    page.see("Delay is one way", within_s=90)
    page.see("upload full")
    page.see("The line was filled by TCP with")
    assert page.driver.find_elements(By.CSS_SELECTOR, "svg[aria-label^='Delay of calls']")
    page.go("/sites/bench")
    page.see("Calls while the line is full")


def test_load_it_with_small_packets(page: Page) -> None:
    page.go("/sites/bench/load")
    page.press("send many of them")
    page.see("Load Live bench with small packets")
    page.see("It takes 352 kbit/s at IP each way and moves 0.9 MB.")
    button = page.driver.find_element(By.XPATH, "//button[normalize-space()='Send packets']")
    assert not button.is_enabled()
    page.fill("For", "2")
    page.fill("Packets, each way", "100")
    page.see("It takes 70 kbit/s at IP each way and moves 0.0 MB.")
    page.click(By.XPATH, "//label[text()='The line may carry this load']")
    button.click()
    page.see("Sending …")
    page.see("of 100 packets a second arrived", within_s=90)
    page.see("Headers and gaps")
    assert len(page.driver.find_elements(By.CSS_SELECTOR, "svg[aria-label*='packets of each second']")) == 2
