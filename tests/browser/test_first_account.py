"""A new installation: the first account is made in the browser, with the code the server printed."""

from __future__ import annotations

from pathlib import Path

from tests import rig
from tests.browser.driver import Page, chromium


def test_the_first_account(tmp_path: Path) -> None:
    port = rig.free_port()
    arguments = ("-m", "tarnfell.cli", "serve", "--data", str(tmp_path), "--bind", f"127.0.0.1:{port}")
    with rig.process(*arguments), chromium() as driver:
        rig.await_port("127.0.0.1", port)
        page = Page(driver, f"http://127.0.0.1:{port}")
        page.go("/")
        page.see("Create the first account")
        assert page.violations() == []
        page.fill("One-time code", "not-the-code")
        page.fill("Your name", "Ines Harrow")
        page.fill("Email address", "ines@merrow.example")
        page.fill("Password", "a-long-enough-password")
        page.press("Create account")
        page.see("That is not the code the server printed")
        page.fill("One-time code", (tmp_path / "first-account-code").read_text().strip())
        page.press("Create account")
        page.see("Ines Harrow")
        page.see("Today")
        page.press("Sign out")
        page.see("Sign in")
        assert "One-time code" not in page.text()
