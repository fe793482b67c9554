"""A site checked from the screen, on the live bench."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tests.browser.driver import Page


def test_check_this_site(page: Page) -> None:
    page.go("/sites/bench/check")
    page.see("Nothing has been asked here yet")
    page.fill("Names to look up", "farend.example")
    page.press("Save")
    page.see("Saved; the next check asks it.")
    page.driver.find_element(By.TAG_NAME, "textarea").send_keys("Meetings 127.0.0.1 1 tcp")
    page.press("Save services")
    page.see("Saved; every site of Merrow Sound Ferries asks them.")
    page.press("Check this site")
    page.see("questions answered")
    page.see("rungs failed", within_s=120)  # nothing listens on that port, which is said
    page.see("Meetings at 127.0.0.1, TCP 1")
    page.see("A call of a second came through both ways")
    page.see("Who acts: whoever runs the far end")
    services = page.driver.find_element(By.TAG_NAME, "textarea")
    services.clear()
    for wrong in ("Meetings without a port", "Meetings 127.0.0.1 443 tls ab:cd", "Meetings 127.0.0.1 1 tcp and more"):
        services.clear()
        services.send_keys(wrong)
        page.press("Save services")
        page.see(f"“{wrong}” is no service: write name, host, port and one of tcp, tls, http, https, stun, dns, sip")
    services.clear()
    services.send_keys(" ")
    page.press("Save services")
    page.see("Saved; every site of Merrow Sound Ferries asks them.")
    page.fill("Names to look up", " ")
    page.press("Save")
    page.see("Saved; the next check asks it.")
    page.choose("Trouble on this bench’s path", "Part of the media ports closed")
    page.see("ports from 21064 on answer nothing")
    page.press("Check this site")
    page.see("Since the check before:", within_s=120)
    page.see("Services: failed before, unproven now.")
    page.see("Part of the media ports is closed")
    page.see("The far end received nothing on them.")
    page.choose("Trouble on this bench’s path", "Changing by the minute")
    page.see("Twelve busy seconds up")
    page.go("/sites/bench")
    page.see("1 of 12 rungs failed")


def test_where_every_rung_passed_nothing_is_left_unproven(page: Page) -> None:
    page.go("/sites/skerry-road/check")
    page.see("All 12 rungs passed.")
    assert "unproven" not in page.text()
