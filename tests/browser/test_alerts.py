"""Alerts: whom they go to, a rule tried on the past week and kept, and its alert in a real mail server."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tests import rig
from tests.browser.driver import Page
from tests.mail import Box, mail_server, text_of


def test_an_alert_arrives_in_a_real_mail_server(page: Page) -> None:
    box = Box()
    with mail_server(box) as server:
        page.go("/engagements/merrow-sound-ferries/alerts")
        page.press("Addresses …")
        page.driver.find_element(By.CSS_SELECTOR, "[role=dialog] textarea").send_keys("ops@customer.example")
        page.press("Save")
        page.see("ops@customer.example")
        page.press("Mail server …")
        page.see("One for this whole installation")
        page.fill("Mail server (SMTP)", server.host)
        Select(page.field("Encryption")).select_by_visible_text("Not encrypted")
        # That chooses the port as well, a moment later.
        rig.eventually(lambda: page.field("Port").get_attribute("value") == "25", "the usual port")
        page.fill("Port", str(server.port))
        page.fill("Sender", server.sender)
        assert page.field("Mail server (SMTP)").get_attribute("value") == server.host
        page.press("Save")
        page.see(f"By {server.host}:{server.port}")
        page.press("Send a test email")
        page.see("test by email sent", within_s=60)
        assert [told["Subject"] for _, told in box.taken] == ["Test: alerts of Merrow Sound Ferries"]
        page.press("New rule …")
        page.see("In the past week it would")
        Select(page.field("When")).select_by_visible_text("The round trip to a place is long")
        Select(page.field("At")).select_by_visible_text("Skerry Road depot")
        page.fill("Over", "1")
        page.fill("For", "1")
        page.see("When the round trip to the far end is over 1 ms for a minute.")
        page.see("it would have fired")
        assert page.violations() == []
        page.press("Create rule")
        page.see("Skerry Road depot. Sent by email.")
        page.see("the limit is 1 ms", within_s=60)
        page.see("alert by email sent", within_s=60)
        to, told = box.taken[1]
        assert to == ["ops@customer.example"]
        assert told["Subject"] == "Alert: Skerry Road depot, Merrow Sound Ferries"
        assert "The rule: When the round trip to the far end is over 1 ms for a minute." in text_of(told)
        assert page.violations() == []
        page.go("/")
        page.see("median round trip")
        page.click(By.PARTIAL_LINK_TEXT, "median round trip")
        page.see("Alerts of Merrow Sound Ferries")
        page.click(By.CSS_SELECTOR, "[aria-label^='Remove: When the round trip']")
        page.await_gone("Skerry Road depot. Sent by email.")


def test_a_token_for_monitoring_is_shown_once(page: Page) -> None:
    page.go("/engagements/merrow-sound-ferries/alerts")
    page.press("Token …")
    page.press("Make a token")
    page.see("it is not shown again")
    token = page.driver.find_element(By.CSS_SELECTOR, "[role=dialog] code").text
    assert len(token) > 40
    page.press("Close it to monitoring")
    page.see("No token is made")
