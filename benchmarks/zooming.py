"""From a press on the minute bench to the finer picture in front of the eye, in a browser."""

from __future__ import annotations

import statistics
import subprocess
import tempfile
from itertools import pairwise
from pathlib import Path

from benchmarks.watches import _grown, _week
from tests import rig
from tests.browser.driver import Page, chromium
from tests.server.conftest import EMAIL, PASSWORD

ROUNDS = 5
STEPS = ("7 days", "1 day", "6 h", "1 h", "10 min", "1 min", "1 h", "1 day", "7 days")
"""There and back; the first only leads to where the round begins."""
# From the press to the frame that shows the first curve drawn anew. Looking at the picture itself would cost it time.
PRESS = """
const [words, done] = [arguments[0], arguments[1]];
const button = [...document.querySelectorAll('#bench button')].find(b => b.textContent.trim() === words);
const began = performance.now();
const seen = new MutationObserver(() => {
  seen.disconnect();
  requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now() - began)));
});
seen.observe(document.querySelector("svg[aria-label='Minute bench']"), {subtree: true, attributeFilter: ['d']});
button.click();
"""
# The least a press can take: one request of the server, and a frame to show it in.
LEAST = """
const done = arguments[0], began = performance.now();
fetch('/api/session').then(a => a.json()).then(() =>
  requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now() - began))));
"""


def report() -> str:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        db, _ = _week(folder)
        _grown(db)
        db.close()
        port = rig.free_port()
        serve = ("-m", "tarnfell.cli", "serve", "--data", name, "--bind", f"127.0.0.1:{port}")
        with rig.process(*serve, stdout=subprocess.DEVNULL), chromium() as driver:
            rig.await_port("127.0.0.1", port)
            page = Page(driver, f"http://127.0.0.1:{port}")
            page.sign_in(EMAIL, PASSWORD)
            page.go("/sites/pier/watch")
            page.see("Minute bench")
            driver.set_script_timeout(30)
            driver.execute_async_script(PRESS, STEPS[0])
            took: dict[str, list[float]] = {}
            for _ in range(ROUNDS):
                for before, words in pairwise(STEPS):
                    took.setdefault(f"{before} → {words}", []).append(driver.execute_async_script(PRESS, words))
            least = [driver.execute_async_script(LEAST) for _ in range(4 * ROUNDS)]
    yardstick = statistics.median(least)
    lines = [
        "## Zooming",
        "",
        "The minute bench of a watch of 91 days, five places once a second: from the press to the frame that shows the "
        f"other span, {ROUNDS} times each, milliseconds. Yardstick: one small request and the frame after it, "
        f"{yardstick:.0f} ms. Browser and server share this machine.",
        "",
        "| step | median | longest | × yardstick (median) |",
        "|---|---:|---:|---:|",
    ]
    lines += [
        f"| {step} | {statistics.median(times):.0f} | {max(times):.0f} | {statistics.median(times) / yardstick:.1f} |"
        for step, times in took.items()
    ]
    return "\n".join(lines)
