"""Links for tests from a browser: made on the screen, opened by whoever has one, revoked."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tests.browser.driver import Page


def test_a_link_is_made_opened_and_revoked(page: Page) -> None:
    page.go("/sites/bench/place")
    page.press("Tests from a browser …")
    page.see("A new link")
    page.fill("For whom, or which desk", "Front desk")
    page.fill("Calls at once (to 20)", "3")
    page.press("Create the link")
    page.see("Not opened yet; no test yet")
    link = page.driver.find_element(By.CSS_SELECTOR, "[data-link]").text.removeprefix(page.address)
    page.go(link)
    page.see("sends and receives the packets of 3 calls at once for 30 s")
    page.see("over the web connection by which this page came")
    page.see("asked by Ines Harrow")
    assert page.violations() == []
    page.go("/sites/bench/browser-tests")
    page.see("Opened ")
    page.click(By.CSS_SELECTOR, "main input[type=checkbox]")
    page.see("They count into moments, causes and the score.")
    page.click(By.CSS_SELECTOR, "main input[type=checkbox]")
    page.see("the verdict leaves them out")
    page.press("Revoke")
    page.see("; revoked.")
    page.go(link)
    page.see("This link was revoked.")
    assert not page.driver.find_elements(By.XPATH, "//button[contains(., 'test')]")


def test_a_relay_is_named_told_to_a_page_and_removed(page: Page) -> None:
    page.go("/sites/bench/browser-tests")
    page.see("no relay is named")
    page.click(By.XPATH, "//summary[contains(., 'Where UDP is blocked')]")
    page.fill("Host", "relay.merrow.example")
    page.fill("Shared secret", "north gate")
    assert page.violations() == []
    page.press("Keep the relay")
    page.see("the relay relay.merrow.example, port 3478")
    # A user's password is another thing, and has to be given.
    page.fill("User", "pier")
    secret = page.field("Password")
    assert (secret.get_attribute("required"), secret.get_attribute("placeholder")) == ("true", "")
    page.fill("User", "")
    assert page.field("Shared secret").get_attribute("placeholder") == "as it is"
    page.press("Remove it")
    page.see("no relay is named")
