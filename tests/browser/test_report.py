"""From a judged site to a report that somebody reads by a link, in a browser that is not signed in."""

from __future__ import annotations

import re

from selenium.webdriver.common.by import By

from tests import rig
from tests.browser.driver import Page, chromium

PLAYS = "return [...document.querySelectorAll('audio')].map(one => one.readyState > 0 && one.duration)"


def test_a_report_is_written_issued_and_read_by_a_link(page: Page) -> None:
    page.go(f"/calls/{page.calls_of_a_run('harbour-house')[0]}")
    page.see("Hear it")
    page.click(By.XPATH, "//summary[.='Hear it']")
    page.press("Put it into the report")
    page.see("The next report plays it")
    page.go("/sites/harbour-house/report")
    page.see("No report of this site has been issued yet")
    page.see("Its reader can hear call 1 of run")
    note = page.driver.find_elements(By.TAG_NAME, "textarea")[1]
    note.send_keys("Measured while the ferry season was over.")
    page.press("Save")
    page.see("as it would be issued now")
    page.press("Issue …")
    page.see("It gets a number and is never changed again")
    page.press("Issue")
    page.see("TF-2")
    number = re.findall(r"TF-\d{4}-\d{4}", page.text())[0]
    page.see("ready, 99 to 100", within_s=30)
    page.press("Share …")
    page.fill("For whom", "The board of Merrow Sound Ferries")
    page.fill("Passphrase, told by another way; empty: none", "slack water")
    page.press("Make the link")
    page.see("Link for The board of Merrow Sound Ferries, with a passphrase: not opened yet")
    page.see("Page · PDF · Figures, JSON", within_s=60)
    assert page.violations() == []
    path = page.driver.find_element(By.LINK_TEXT, "Open").get_attribute("href") or ""
    with chromium(400, 800) as driver:
        stranger = Page(driver, "")
        stranger.go(path)
        stranger.see("A report was shared with you")
        assert number not in stranger.text()
        driver.find_element(By.NAME, "passphrase").send_keys("slack water")
        stranger.press("Open the report")
        stranger.see(f"report {number}")
        assert driver.find_element(By.LINK_TEXT, "PDF")
        driver.switch_to.frame(driver.find_element(By.TAG_NAME, "iframe"))
        stranger.see("Measured while the ferry season was over.")
        stranger.see("this site can carry its 12 concurrent calls")
        rig.eventually(lambda: driver.execute_script(PLAYS) == [12, 12], "two sounds that can be played")
        assert driver.execute_script("return document.documentElement.scrollWidth <= window.innerWidth + 1")
    page.go("/sites/harbour-house/report")
    page.see("opened 1 time")
    page.press("Withdraw …")
    page.fill("Why", "The line was changed since.")
    page.press("Withdraw")
    page.see("Withdrawn: The line was changed since.")
    with chromium() as driver:
        stranger = Page(driver, "")
        stranger.go(path)
        driver.find_element(By.NAME, "passphrase").send_keys("slack water")
        stranger.press("Open the report")
        stranger.see("It was withdrawn: The line was changed since.")
