"""A site watched: from the day sheet to its minutes and an episode; a watch that is started, changed and ended."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests import rig
from tests.browser.driver import Page

CALL = "A call of 12 seconds"
ALL_CALLS = "All calls and video of the brief for 20 seconds, in business hours"
FILL = "The line filled for 6 seconds each way"


def test_from_the_day_sheet_to_its_minutes_and_an_episode(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.see("Day sheet")
    page.click(By.XPATH, "//ol//a[starts-with(normalize-space(), 'Watch')]")
    page.see("Watch Skerry Road depot")
    page.see("Packets queue on the line, upload")
    page.see("weekdays between")
    page.see("answers slowly for itself")
    sheet = page.driver.find_element(By.CSS_SELECTOR, "svg[aria-label^='Day sheet of the watch']")
    sheet.send_keys(Keys.ARROW_UP)  # the last day may have been measured for some minutes only
    page.see("click to open its minutes")
    sheet.send_keys(Keys.ENTER)
    page.see("each round")
    assert "from=" in page.driver.current_url
    bench = page.driver.find_element(By.ID, "bench")
    assert [lane for lane in ("Gateway", "Provider’s edge", "Outside", "Far end") if lane in bench.text] == [
        "Gateway", "Provider’s edge", "Outside", "Far end",
    ]  # fmt: skip
    page.press("1 day")
    page.see("each minute")
    page.press("7 days")
    page.see("each ten minutes")
    # It ends with the newest sample: there is nothing later.
    later = bench.find_element(By.XPATH, ".//button[normalize-space()='Later']")
    assert not later.is_enabled()
    page.press("1 h")
    page.see("each minute")
    before = page.driver.current_url
    page.press("Earlier")
    page.see("each minute")
    assert page.driver.current_url != before
    assert later.is_enabled()
    # An episode opens its own minutes, and says what calls placed in it came to.
    first = page.driver.find_element(By.XPATH, "//section[@aria-label='Episodes']//tbody/tr[1]")
    assert "line" in first.text
    assert "added delay upload" in first.text
    assert "below 4.0 MOS" in page.driver.find_element(By.XPATH, "//section[@aria-label='Episodes']").text
    first.find_element(By.TAG_NAME, "button").click()
    page.see("Grey: an episode.")
    parts = page.driver.find_element(By.XPATH, "//section[@aria-label='By part of the day']")
    assert [row.text.split(" ")[0] for row in parts.find_elements(By.CSS_SELECTOR, "tbody tr")] == [
        "night", "morning", "noon", "afternoon", "evening",
    ]  # fmt: skip
    address = page.driver.current_url
    parts.find_element(By.CSS_SELECTOR, "tbody button").click()
    assert page.driver.current_url != address
    page.click(By.XPATH, "//label[normalize-space()='Loss']")
    assert "measure=loss" in page.driver.current_url
    assert page.violations() == []
    page.click(By.XPATH, "//button[normalize-space()='Evidence sheet, PDF']")
    page.see("The PDF is ready", within_s=60)
    page.click(By.XPATH, "//a[normalize-space()='Evidence sheet']")
    page.see("Side by side at the same instants")
    page.see("Not up to Gateway 192.0.2.33")


def test_a_note_is_pinned_to_what_is_shown_and_comes_along(page: Page) -> None:
    page.go("/sites/skerry-road/watch")
    page.see("Minute bench")
    page.click(By.XPATH, "//section[@aria-label='Episodes']//tbody/tr[1]//button")
    page.see("Grey: an episode.")
    page.press("Add note …")
    page.fill("Note", "The backup to head office ran here.")
    page.choose("Leg", "the line")
    page.press("Save")
    page.see("Numbers are notes.")
    page.see("Bracketed at the top")
    (number,) = page.driver.find_elements(
        By.CSS_SELECTOR, "svg[aria-label^='Day sheet of the watch'] text.font-semibold"
    )
    assert number.text.startswith("1")
    page.press("1 min")
    call = page.calls_of_a_run()[0]
    page.go(f"/calls/{call}")
    page.see("Notes")
    assert "backup" not in page.text()
    page.press("Add note …")
    page.see("It is of this call.")
    page.fill("Note", "The customer heard this one.")
    page.press("Save")
    page.see("in the report")
    assert page.violations() == []
    page.go("/sites/skerry-road/watch")
    page.see("The customer heard this one.")
    page.see("Call 1 of run")
    told = page.driver.execute_async_script(
        "const done = arguments[0]; fetch('/api/sites/skerry-road/report.html').then(r => r.text()).then(done)"
    )
    assert "The backup to head office ran here." in told
    assert "The customer heard this one." in told
    for left in (1, 0):
        page.press("Remove")
        remove = "//button[normalize-space()='Remove']"
        rig.eventually(lambda: len(page.driver.find_elements(By.XPATH, remove)) == left, f"{left} notes")  # noqa: B023
    page.await_gone("The backup to head office ran here.")


def test_a_quiet_site_says_so(page: Page) -> None:
    page.go("/sites/harbour-house/watch")
    page.see("Nothing in these days would have spoiled a call")
    assert "Episodes" not in [one.text for one in page.driver.find_elements(By.TAG_NAME, "h2")]


def test_a_watch_is_ended_changed_and_started(page: Page) -> None:
    page.go("/sites/bench/watch")
    page.see("bench-probe")
    if page.driver.find_elements(By.XPATH, "//main//button[normalize-space()='Stop']"):
        page.press("Stop")
    page.see("Start a watch …")
    page.go("/sites/bench/watch")  # an answer asked for before the end may still come, and close the form
    page.see("Start a watch …")
    page.press("Start a watch …")
    page.see("MB a day, both ways together: samples")
    for beside in (CALL, ALL_CALLS):  # they would come between the calls of other tests
        assert page.field(beside).get_attribute("value") != "0"
        page.choose(beside, "never")
    page.choose(FILL, "every 7 hours")
    page.see("fills, at most")
    address = page.driver.find_element(By.XPATH, "//div[@role='dialog']//input[@placeholder='the system’s own']")
    address.send_keys(Keys.ENTER)  # by key: the form grows and moves while it is answered
    page.see("only where somebody at the site has agreed")
    page.choose(FILL, "never")
    address.send_keys("nowhere.example", Keys.ENTER)
    page.see("is no address")
    address.send_keys(Keys.CONTROL, "a")
    address.send_keys("127.0.0.1", Keys.ENTER)
    page.await_gone("MB a day")
    page.see("Samples are coming in.", within_s=90)
    page.see("127.0.0.1")
    page.see("Names and services of the check, every 5 minutes: last", within_s=60)
    page.press("Edit …")
    page.see("Trouble shorter than 5 s cannot be told from single losses.")
    page.choose("Rounds", "5 a second")
    page.see("Trouble shorter than 1 s cannot be told from single losses.")
    page.driver.find_element(By.XPATH, "//div[@role='dialog']//input[@placeholder='the system’s own']").send_keys(
        Keys.ENTER
    )
    page.see("5 a second, to bench-far-end")
    page.see("Samples are coming in.", within_s=90)
