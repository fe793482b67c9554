"""From a new engagement to a live result, as a consultant and somebody at the site would do it."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tarnfell.demo.run import Bench
from tests import rig
from tests.browser.driver import Page, chromium


def sound(page: Page) -> None:
    assert page.violations() == []


def test_from_nothing_to_a_staircase(page: Page, bench: Bench, tmp_path: Path) -> None:
    brief_a_site(page)
    link = place_a_probe(page)
    with chromium(390, 844) as phone:
        site_side = Page(phone, bench.address)
        phone.get(link)
        site_side.see("Help measure this network")
        sound(site_side)
        width = phone.execute_script("return document.documentElement.scrollWidth")
        assert width <= 390, "the page for people at the site does not fit a phone"
        file = tmp_path / "tarnfell-probe.pyz"
        rig.fetch(site_side.driver.find_element(By.LINK_TEXT, "Download the probe").get_attribute("href") or "", file)
        command = [sys.executable, "-I", "-S", str(file), "--state", str(tmp_path / "state")]
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/") as probe:
            try:
                site_side.see("It runs. Thank you.")
                load(page)
                page.go("/sites/quay-kiosk/place")
                page.press("Retire probe …")
                page.press("Retire probe")
                site_side.see("All done. Thank you.", within_s=30)
                assert probe.wait(rig.HANGS_S) == 0
            finally:
                probe.kill()


def brief_a_site(page: Page) -> None:
    page.go("/")
    page.press("New engagement …")
    page.fill("Customer or project", "Sound Kiosks")
    page.press("Create engagement")
    page.see("No site yet.")
    sound(page)
    page.press("New site")
    page.see("erlangs in the busy hour")
    page.fill("Name of the site", "Quay kiosk")
    page.fill("People", "4")
    page.see("0.6 erlangs")
    page.fill("Up", "2")
    page.fill("Down", "4")
    page.see("of the upload rate")
    page.press("Strict")
    page.see("437 ten-minute moments")
    # A preset is saved by itself: what is half written stays as it is, and on the page.
    page.fill("Required share of acceptable calls", "98")
    page.press("Save as preset …")
    page.fill("Name of the preset", "House rule")
    page.press("Save")
    page.see("Saved with Sound Kiosks.")
    assert page.driver.current_url.endswith("/new-site")
    page.press("Delete preset “House rule”")
    page.see("not saved as a preset")
    page.press("Tolerant")
    page.press("Add video")
    page.see("720p at 30")
    page.see("The line cannot carry this")
    page.press("Remove 720p30")
    page.press("Add hours without load")
    sound(page)
    page.press("Remove 12:00 to 13:00")
    page.press("Create site")
    page.see("Next: Place a probe at the site.")


def place_a_probe(page: Page) -> str:
    page.press("Open test points")
    page.press("Add a test point …")
    page.press("Add")
    page.press("Place a probe …")
    page.fill("Name of the probe", "kiosk-laptop")
    page.press("Create link")
    page.see("Works once, until")
    sound(page)
    box = page.driver.find_element(By.XPATH, "//label[normalize-space()='bench-far-end' or .//text()='bench-far-end']")
    box.click()
    page.see("chosen by 1 more")
    return str(page.driver.find_element(By.CSS_SELECTOR, "a[href*='/join/']").get_attribute("href"))


def load(page: Page) -> None:
    page.see("online", within_s=30)
    page.go("/sites/quay-kiosk/load")
    page.see("What it takes")
    page.fill("up to", "30")
    page.see("are beyond this site’s ceiling".replace("’", "'"))
    page.press("Place up to 19")
    page.see("19 calls")
    for label, value in (("From", "1"), ("up to", "3"), ("by", "2"), ("Seconds each", "3")):
        page.fill(label, value)
    sound(page)
    page.press("Recurring")
    page.see("As a rule of RFC 5545")
    page.fill("Name of the plan", "Weekdays")
    page.press("Schedule it")
    page.see("on Mondays, Tuesdays, Wednesdays, Thursdays, Fridays")
    page.press("Cancel plan")
    page.see("Nothing more of it starts.")
    page.click(By.CSS_SELECTOR, "form button[type=submit]")
    for label, value in (("From", "1"), ("up to", "3"), ("by", "2"), ("Seconds each", "3")):
        page.fill(label, value)
    Select(page.field("Marking")).select_by_visible_text("best effort (0)")
    page.press("Start it now")
    page.see("concurrent calls now", within_s=40)
    page.see(" needed.", within_s=60)
    sound(page)


def test_sites_from_a_list(page: Page, tmp_path: Path) -> None:
    page.go("/engagements/merrow-sound-ferries")
    page.see("Skerry Road depot")
    page.press("Import sites …")
    file = tmp_path / "sites.csv"
    file.write_text("name,place,people,up_kbps,time_zone\nSlip,Ramp,9,5000,Europe/London\nFar,,9,1,Nowhere/X\n")
    page.driver.find_element(By.CSS_SELECTOR, "input[type=file]").send_keys(str(file))
    page.see("1 new, 1 cannot be saved.")
    page.see("no time zone “Nowhere/X”")
    page.press("Save 1 site")
    page.see("1 new, 1 cannot be saved; saved.")
    page.press("Done")
    page.see("Slip")
    page.go("/sites/slip")
    page.press("Archive")
    page.see("Restore this site to go on")
    page.go("/engagements/merrow-sound-ferries")
    page.see("Archived sites")
    sound(page)


def test_a_copy_of_a_site(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.press("Duplicate …")
    page.fill("Name of the new site", "Skerry annex")
    page.press("Create site")
    page.see("Brief of Skerry annex")
    page.press("Discard changes")
    page.see("not shown yet")
    page.press("Archive")
    page.see("Restore this site to go on")
