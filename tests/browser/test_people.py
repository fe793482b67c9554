"""Somebody is invited, joins by the link, sees what customers see and no more; an account and its sessions."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tarnfell.demo.run import Bench
from tests.browser.driver import Page, chromium

PEOPLE = "/engagements/merrow-sound-ferries/people"


def test_a_customer_is_invited_joins_and_sees_what_is_shown(page: Page, bench: Bench) -> None:
    page.go(PEOPLE)
    page.see("Who did what")
    page.see("issues nothing")
    page.press("Invite …")
    page.fill("Email address", "rhona@ferries.example")
    page.choose("Role", "customer")
    # Its words are others where another test has set a mail server.
    page.click(By.CSS_SELECTOR, "[role=dialog] button[type=submit]")
    page.see("shown once")
    page.see("Invite somebody")
    assert page.violations() == []
    link = page.driver.find_element(By.CSS_SELECTOR, "[role=status] code").text
    page.press("Show how sites stand now")
    page.see("They also see")
    with chromium() as driver:
        guest = Page(driver, bench.address)
        driver.get(link)
        guest.see("Ines Harrow invites you as a customer.")
        assert guest.violations() == []
        guest.fill("Your name", "Rhona Sound")
        guest.fill("Password", "short")
        guest.press("Join")
        guest.see("at least 10 characters.")
        guest.fill("Password", "a-password-of-rhona")
        guest.press("Join")
        guest.see("How it stands now")
        guest.see("not ready")
        assert guest.violations() == []
        guest.go("/sites/harbour-house")
        guest.see("Merrow Sound Ferries")
        assert driver.current_url.endswith("/shown")
        page.press("Show only issued reports")
        page.see("they do not see")
        guest.go("/")
        guest.see("Harbour House")
        assert "How it stands now" not in guest.text()
        # Her password, and where she is signed in.
        guest.press("Rhona Sound")
        guest.see("here, now")
        guest.press("Change password …")
        guest.fill("Password so far", "a-password-of-rhona")
        guest.fill("New password", "another-one-of-rhona")
        driver.find_elements(By.XPATH, "//button[normalize-space()='Change password']")[-1].click()
        guest.await_gone("Password so far")
        guest.press("Sign out")
        guest.see("Forgot your password?")
        guest.press("Forgot your password?")
        guest.fill("Email address of your account", "rhona@ferries.example")
        guest.press("Send link")
        guest.see("This server sends no mail.")
        driver.get(bench.address)
        guest.sign_in("rhona@ferries.example", "another-one-of-rhona")
        guest.see("Harbour House")
        # Whoever is removed sees nothing any more.
        page.go(PEOPLE)
        page.see("rhona@ferries.example")
        page.click(By.XPATH, "//tr[contains(., 'rhona@')]//button[normalize-space()='Remove']")
        page.await_gone("rhona@ferries.example")
        guest.go("/")
        guest.see("Nothing is shown to you any more.")


def test_a_link_that_is_none_says_so(page: Page) -> None:
    with chromium() as driver:
        guest = Page(driver, page.address)
        guest.go("/invited/nothing")
        guest.see("This link was used, revoked, or has expired.")


def test_a_colleague_is_not_offered_what_a_consultant_gives_out(page: Page) -> None:
    with chromium() as driver:
        colleague = Page(driver, page.address)
        colleague.sign_in("colleague@merrow.example")
        colleague.go("/sites/harbour-house/report")
        colleague.see("Draft PDF")
        assert "Issue …" not in colleague.text()
        colleague.go("/engagements/merrow-sound-ferries/alerts")
        colleague.see("New rule …")
        assert "Webhook …" not in colleague.text()
        colleague.go("/engagements/merrow-sound-ferries")
        colleague.see("New site")
        assert "Archive" not in colleague.text()
        colleague.go(PEOPLE)
        colleague.see("A consultant of it may change who belongs to it.")
        assert "Invite …" not in colleague.text()
        assert "Who did what" not in colleague.text()
        assert colleague.violations() == []
    page.go("/sites/harbour-house/report")
    page.see("Issue …")
