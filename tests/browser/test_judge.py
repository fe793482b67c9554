"""What a consultant makes of the evidence: causes weighed, worded, added; the plan that closes what is open."""

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


def causes(page: Page) -> list[str]:
    return [one.text for one in page.driver.find_elements(By.CSS_SELECTOR, "#causes h3")]


def test_a_cause_is_put_first_in_ones_own_words_and_back(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.see("costliest first")
    found = causes(page)
    assert len(found) > 1
    title = found[1].removeprefix("2. ")
    button = (By.XPATH, f"//h3[contains(., {title!r})]/../p/button[normalize-space()='Weigh and word …']")
    page.click(*button)
    page.choose("Order", "First")
    page.fill("Heading", "Voice waits behind data")
    page.fill("Note", "Seen at the router as well.")
    assert page.violations() == []
    page.press("Save")
    page.see("in the consultant’s order")
    assert causes(page)[:2] == ["1. Voice waits behind data", found[0].replace("1.", "2.", 1)]
    page.see("Put first by the consultant, whatever points it took. Heading as found: " + title)
    page.see("Seen at the router as well.")
    page.click(By.XPATH, "//h3[contains(., 'Voice waits')]/../p/button[normalize-space()='Weigh and word …']")
    page.choose("Order", "As the evidence has it")
    page.fill("Heading", "")
    page.fill("Note", "")
    page.press("Save")
    page.see("costliest first")
    assert causes(page) == found


def test_the_plan_that_closes_the_evidence_is_one_press_away(page: Page) -> None:
    page.go("/sites/slipway")
    page.see("What would close it:")
    page.press("Plan these runs")
    page.see("A new plan")
    assert page.field("Name of the plan").get_attribute("value") == "Evidence that is missing"
    rule = page.field("As a rule of RFC 5545").get_attribute("value")
    closing = page.read("/api/sites/slipway")["coverage"]["closing"]
    assert rule == closing["rule"]
    assert page.field("Concurrent calls").get_attribute("value") == str(closing["calls"])
    page.see(f"{closing['runs']} times")
    page.press("Schedule it")
    page.see("Planned")
    page.see(f"times a day from 7:05 to 15:{rule.partition('BYMINUTE=')[2].partition(';')[0].split(',')[-1]}")
    page.go("/sites/slipway")
    page.see("A plan gathers it; next start")
    page.go("/sites/slipway/load")
    page.press("Cancel plan")
    page.click(By.CSS_SELECTOR, "[aria-label='Cancel plan'] button[type=submit]")
    page.await_gone("Evidence that is missing")


def top_of(page: Page, css: str) -> float:
    return float(
        page.driver.execute_script("return document.querySelector(arguments[0]).getBoundingClientRect().top", css)
    )


def test_a_lost_point_leads_to_its_cause_and_a_stage_to_its_section(page: Page) -> None:
    page.go("/sites/skerry-road")
    page.see("points lost")
    link = page.driver.find_element(By.CSS_SELECTOR, "#score a")
    cause = "#" + link.get_attribute("href").partition("#")[2]
    title = link.text.strip("“”")
    assert page.driver.find_element(By.CSS_SELECTOR, f"{cause} h3").text.endswith(title)
    page.driver.execute_script("scrollTo(0, 0)")
    page.click(By.CSS_SELECTOR, "#score a")
    page.await_true(lambda: abs(top_of(page, cause)) < 40, lambda: "the cause is not in view")
    assert page.driver.execute_script("return document.activeElement.id") == cause[1:]
    # Asked for once more from elsewhere, and by its address.
    page.driver.execute_script("scrollTo(0, 0)")
    page.click(By.CSS_SELECTOR, "main ol a[href$='#judge']")
    page.await_true(lambda: abs(top_of(page, "#judge")) < 40, lambda: "the verdict is not in view")
    page.go(f"/sites/skerry-road{cause}")
    page.see("points lost")
    page.await_true(lambda: page.driver.execute_script("return scrollY") > 500, lambda: "not scrolled back")
