"""A consultant's name and colour on the draft beside the form, and gone again."""

from __future__ import annotations

from pathlib import Path

from selenium.common.exceptions import WebDriverException
from selenium.webdriver.common.by import By

from tests import rig
from tests.browser.driver import Page
from tests.report.test_brand import SVG


def in_draft(page: Page) -> str:
    """The first line of the draft beside the form; empty while it is being drawn."""
    try:
        page.driver.switch_to.frame(page.driver.find_element(By.TAG_NAME, "iframe"))
        lines = page.driver.find_element(By.TAG_NAME, "header").text.splitlines()
    except WebDriverException:
        return ""
    finally:
        page.driver.switch_to.default_content()
    return lines[0] if lines else ""


def test_a_brand_is_seen_on_the_draft_at_once(page: Page, tmp_path: Path) -> None:
    page.go("/engagements/merrow-sound-ferries")
    page.press("Brand")
    page.see("Brand of reports")
    page.fill("Name", "Harrow Voice")
    page.fill("Colour", "#eeeeee")
    page.press("Save brand")
    page.see("too pale to be read on paper")
    page.fill("Colour", "#14506b")
    logo = tmp_path / "logo.svg"
    logo.write_text(SVG.format('<path d="M0 9L4 0L9 9Z"/>'))
    page.driver.find_element(By.CSS_SELECTOR, "input[type=file]").send_keys(str(logo))
    page.see("Remove logo")
    rig.eventually(lambda: in_draft(page) == "Harrow Voice", "the draft in the new name")
    assert page.violations() == []
    page.press("Remove logo")
    page.await_gone("Remove logo")
    for label in ("Name", "Colour"):
        page.fill(label, "")
    page.press("Save brand")
    rig.eventually(lambda: in_draft(page).startswith("Merrow Sound Ferries"), "the draft without a name")
