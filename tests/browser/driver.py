"""Headless Chromium as the tests and the screenshots use it."""

from __future__ import annotations

import base64
import hashlib
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from cryptography.x509 import load_pem_x509_certificate
from selenium import webdriver
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    NoSuchElementException,
    StaleElementReferenceException,
)
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webdriver import WebDriver
from selenium.webdriver.support.select import Select

from tarnfell.demo.scenario import PASSWORD, USER_EMAIL
from tests.rig import PATIENCE

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
SHELL = Path(__file__).with_name("headless-shell")
WAIT_S = 40
SCRIPT_S = 120
"""What looks at all of a large page takes as long on a machine that does other things as well."""
_TEXT = "return (document.body?.innerText ?? '').replace(/[\\t\\u00a0]/g, ' ')"
"""Cells of a row are told with tabs between them."""
_OWN_TEXT = "normalize-space(translate(., '\u00a0', ' '))"


@contextmanager
def chromium(
    width: int = 1280, height: int = 800, trusts: Path | None = None, whole: bool = False
) -> Iterator[WebDriver]:
    """A browser with an empty profile that asks nothing of the outside. ``trusts``: a certificate that it takes from
    anybody, in the format of PEM. ``whole``: one that knows windows, so that a page can be in the background."""
    options = Options()
    shell = shutil.which("chromium-headless-shell") and not whole
    options.binary_location = str(SHELL) if shell else "/usr/bin/chromium"
    with tempfile.TemporaryDirectory() as profile:
        for switch in (
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            "--force-prefers-reduced-motion",
            f"--window-size={width},{height}",
            f"--user-data-dir={profile}",
        ):
            options.add_argument(switch)
        if trusts is not None:
            options.add_argument(f"--ignore-certificate-errors-spki-list={_key_hash(trusts)}")
        driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
        driver.set_script_timeout(PATIENCE * SCRIPT_S)
        # The window has a frame even without a screen; the page gets the size asked for.
        driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
        )
        try:
            yield driver
        finally:
            driver.quit()


def _key_hash(certificate: Path) -> str:
    """Of its public key, as RFC 7469 §2.4 makes a pin."""
    key = load_pem_x509_certificate(certificate.read_bytes()).public_key()
    told = key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return base64.b64encode(hashlib.sha256(told).digest()).decode()


class Page:
    """What a person does: go, read, press, wait to see."""

    def __init__(self, driver: WebDriver, address: str) -> None:
        self.driver = driver
        self.address = address.rstrip("/")

    def go(self, path: str) -> None:
        self.driver.get(self.address + path)

    def await_true(self, holds: Callable[[], Any], otherwise: Callable[[], str], within_s: float = WAIT_S) -> None:
        """Ask until it holds, the longer it takes the less often: every question is work for the browser it waits for.
        Raises AssertionError that says ``otherwise``."""
        deadline, pause_s = time.monotonic() + PATIENCE * within_s, 0.05
        while not holds():
            if time.monotonic() > deadline:
                raise AssertionError(otherwise())
            time.sleep(pause_s)
            pause_s = min(1.0, 1.3 * pause_s)

    def see(self, words: str, within_s: float = WAIT_S) -> None:
        """Wait until the page shows ``words``; a failure tells what it shows instead."""
        self.await_true(
            lambda: words in self.text(),
            lambda: f"“{words}” did not appear at {self.driver.current_url}:\n{self.text()}",
            within_s,
        )

    def note_status(self) -> None:
        """From now on keep every sentence the page's status says, however short it stands."""
        self.driver.execute_script(
            "window.said = []; const keep = () => document.querySelectorAll('[role=status]').forEach("
            "s => { if (window.said.at(-1) !== s.textContent) window.said.push(s.textContent) });"
            "new MutationObserver(keep).observe(document, {subtree: true, childList: true, characterData: true});"
        )

    def noted(self) -> list[str]:
        return list(self.driver.execute_script("return window.said"))

    def await_gone(self, words: str, within_s: float = WAIT_S) -> None:
        """Wait until the page no longer shows ``words``."""
        self.await_true(lambda: words not in self.text(), lambda: f"“{words}” stays:\n{self.text()}", within_s)

    def text(self) -> str:
        """What can be read, as the browser itself tells it: WebDriver's own way takes a second on a large page."""
        return str(self.driver.execute_script(_TEXT))

    def press(self, words: str) -> None:
        """Press the button or link that says exactly ``words``."""
        self.click(By.XPATH, f"//*[self::button or self::a][{_OWN_TEXT}='{words}']")

    def click(self, by: str, what: str) -> None:
        """Click the first such element, once the page stands still enough for it."""

        def clicked() -> bool:
            try:
                found = self.driver.find_element(by, what)
                self.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", found)
                found.click()
            except (NoSuchElementException, StaleElementReferenceException, ElementClickInterceptedException):
                return False
            return True

        self.await_true(clicked, lambda: f"no {what} to click")

    def choose(self, label: str, words: str) -> None:
        """Choose what says ``words`` in the list of that label."""
        Select(self.field(label)).select_by_visible_text(words)

    def field(self, label: str):  # type: ignore[no-untyped-def]
        xpath = f"//label[span[{_OWN_TEXT}='{label}']]//*[self::input or self::select or self::textarea]"
        self.await_true(lambda: self.driver.find_elements(By.XPATH, xpath), lambda: f"no “{label}”")
        return self.driver.find_element(By.XPATH, xpath)

    def fill(self, label: str, value: str) -> None:
        """Type ``value`` over what stands there, until the field says it.

        A field that thinks about each key may be drawn anew between two of them; clearing it would be a value of its
        own.
        """

        def typed() -> bool:
            field = self.field(label)
            try:
                field.send_keys(Keys.CONTROL, "a")
                field.send_keys(value or Keys.BACKSPACE)
                return bool(field.get_attribute("value") == value)
            except StaleElementReferenceException:
                return False

        self.await_true(typed, lambda: f"“{label}” does not say “{value}”")

    def sign_in(self, email: str = USER_EMAIL, password: str = PASSWORD) -> None:
        self.go("/")
        self.fill("Email address", email)
        self.fill("Password", password)
        self.press("Sign in")
        self.see("Sign out")

    def read(self, path: str) -> Any:
        """What the server answers there, with the session of the browser."""
        return self.driver.execute_async_script(
            "const done = arguments[1]; fetch(arguments[0]).then(a => a.json()).then(done)", path
        )

    def calls_of_a_run(self, site: str = "skerry-road") -> list[int]:
        """The calls of the newest run of that site that had several."""
        for run in self.read(f"/api/sites/{site}/runs")["runs"]:
            calls = [call["id"] for call in self.read(f"/api/runs/{run['id']}/calls")["calls"]]
            if len(calls) > 1:
                return calls
        raise AssertionError(f"no run of several calls at {site}")

    def wait_for(self, css: str) -> None:
        self.await_true(lambda: self.driver.find_elements(By.CSS_SELECTOR, css), lambda: f"no {css}")

    def violations(self) -> list[str]:
        """What axe finds wrong with the page as it stands (WCAG 2.2 AA)."""
        self.driver.execute_script(AXE.read_text(encoding="utf-8"))
        found = self.driver.execute_async_script(
            "const done = arguments[arguments.length - 1];"
            "axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']})"
            ".then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target.join(' ')).join(', '))))"
        )
        return list(found)
