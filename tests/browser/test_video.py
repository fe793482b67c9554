"""Video beside calls and media one way, from plan to picture; and codec values of one's own."""

from __future__ import annotations

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.select import Select

from tests.browser.driver import Page
from tests.browser.test_main_path import until

pytestmark = pytest.mark.browser


def plan_held(page: Page, seconds: int) -> None:
    page.go("/sites/bench/load")
    page.see("95 % confidence")
    page.press("Fixed load")
    page.fill("Concurrent calls", "2")
    page.fill("Seconds each", str(seconds))


def open_the_run(page: Page) -> None:
    page.see(" needed.", within_s=60)
    page.click(By.CSS_SELECTOR, "table a[href*='/runs/']")
    page.see("Self-check of probe and far end")


def test_video_from_plan_to_picture(page: Page) -> None:
    plan_held(page, 8)
    page.press("Add video")
    page.see("1 796 kbit/s each way")
    Select(page.field("Video")).select_by_value("360p")
    page.see("824 kbit/s each way")
    assert page.violations() == []
    page.press("Start it now")
    page.see("of about 78 packets a second", within_s=40)
    assert page.violations() == []
    open_the_run(page)
    page.see("Each video stream")
    page.see("beside them 1 × 360p at 25, AF41 (34)")
    assert page.violations() == []
    page.press("1, 360p at 25")
    page.see("what the far end received")
    page.see("640 × 360, 25 frames a second")
    assert page.violations() == []
    page.press("at refresh frames, every 4 s")
    until(lambda: "refresh=interval" in page.driver.current_url)
    page.driver.find_element(By.CSS_SELECTOR, "[role=slider]").send_keys(Keys.END)
    until(lambda: "buffer=500" in page.driver.current_url)
    page.press("Picture score")
    page.see("no standard defines it, and it is no MOS")
    page.driver.find_element(By.TAG_NAME, "body").send_keys(Keys.ESCAPE)
    page.driver.find_element(By.TAG_NAME, "body").send_keys("t")
    assert page.violations() == []
    page.driver.find_element(By.TAG_NAME, "body").send_keys("t")


def test_media_one_way(page: Page) -> None:
    plan_held(page, 6)
    page.press("Up only")
    page.see("Media flows up only")
    page.press("Start it now")
    page.see("in this direction only, as planned.", within_s=40)
    assert "Download: far end to probe" not in page.text()
    open_the_run(page)
    page.see("upload only at 4.0 MOS or better")
    page.see("no media in this direction")
    assert page.violations() == []


def test_codec_values_of_ones_own(page: Page) -> None:
    page.go("/engagements/merrow-sound-ferries")
    page.press("Codec values")
    page.see("How codecs are judged")
    assert page.violations() == []
    row = "//tr[contains(., 'Opus 24')]"
    page.click(By.XPATH, f"{row}//button[contains(., 'Change')]")
    page.fill("Ie", "22")
    page.press("Save")
    page.see("Say where these values come from")
    page.fill("Source", "Vendor’s listening test, spring")
    assert page.violations() == []
    page.press("Save")
    page.see("Vendor’s listening test, spring")
    text = page.driver.find_element(By.XPATH, row).text
    assert "your own" in text
    assert "22" in text
    page.click(By.XPATH, f"{row}//button[contains(., 'Restore planning')]")
    until(lambda: "your own" not in page.text().split("How codecs")[1].split("MOS, no loss")[1])
