"""A real browser behind a link, in a host of its own: its calls against what the path did to them."""

from __future__ import annotations

import csv
import ctypes
import os
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By

from tarnfell.core.line.measure import SETTLE_S
from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, open_database, writing
from tests import rig
from tests.browser.driver import Page, chromium
from tests.lab.conftest import CERTIFICATE, NEEDS_ROOT, Row, row_of
from tests.server.conftest import set_up

pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not shutil.which("chromedriver"), reason="needs Debian's chromium and chromium-driver"),
]

SECONDS = 10
PLANNED = SECONDS * 50
UNDER_CHUNKS = 37 + 12
"""A DTLS record and SCTP's header, of a datagram's bytes."""
CHUNK_BYTES = 16 + 108
"""A packet of a call as SCTP sends it; acknowledgements and time stamps are smaller."""
SITE, PATH, FAR = "192.0.2.1", "192.0.2.2", "198.51.100.2"
LONG_S = 120
_NEW_NET = 0x40000000
_libc = ctypes.CDLL(None, use_errno=True)


@contextmanager
def standing_in(name: str) -> Iterator[None]:
    """This thread, and what it starts, in that namespace."""
    back = os.open("/proc/thread-self/ns/net", os.O_RDONLY)
    there = os.open(f"/run/netns/{name}", os.O_RDONLY)
    try:
        assert _libc.setns(there, _NEW_NET) == 0
        yield
    finally:
        assert _libc.setns(back, _NEW_NET) == 0
        os.close(back)
        os.close(there)


@dataclass
class Desk:
    """A browser at a link, with calls of ten seconds behind it."""

    row: Row
    db: sqlite3.Connection
    page: Page
    browser: int
    code: str

    def open(self) -> None:
        self.page.go(f"/test/{self.code}")
        self.page.see("What will happen")

    def run(self) -> run_store.Run:
        """The newest."""
        return run_store.run_by_id(self.db, browser_store.newest_runs(self.db, self.browser, 1)[0])

    def await_state(self, *states: str) -> run_store.Run:
        rig.eventually(lambda: self.run().state in states, f"a run that is {states}", LONG_S)
        return self.run()


@contextmanager
def desk(
    row: Row, folder: Path, host: str = PATH, calls: int = 1, server: str = "site", fill_s: float = 0.0,
    more: tuple[str, ...] = (), proxied: bool = False, whole: bool = False,
) -> Iterator[Desk]:  # fmt: skip
    """``more`` is said to the server besides; ``proxied``: a proxy that speaks TLS is in front of it; ``whole``: the
    browser is (tests/browser/driver.py)."""
    db = open_database(folder / "data")
    set_up(db, host, rig.CONTROL_PORT, rig.KEY)
    site_id, point_id = db.execute("SELECT site_id, id FROM test_point").fetchone()
    with writing(db):
        browser = browser_store.add_link(db, site_id, point_id, "Reception", "g711a", 20, calls, SECONDS, fill_s)
        code = probe_store.invite(db, browser)
    db.close()
    outside = f"https://{row.address[server]}" if proxied else f"http://{row.address[server]}:8080"
    bind = "127.0.0.1:8080" if proxied else f"{row.address[server]}:8080"
    public = ("--public-address", outside) if proxied else ()
    serve = ("-m", "tarnfell.cli", "serve", "--data", str(folder / "data"), "--bind", bind, *public, *more)
    with rig.process(*serve, prefix=row.inside(server)):
        row.await_port(server, 8080)
        with standing_in(row.names["site"]), chromium(390, 844, CERTIFICATE, whole) as driver:
            yield Desk(row, connect(folder / "data"), Page(driver, outside), browser, code)


@pytest.fixture
def row() -> Iterator[Row]:
    with row_of("site", "path", "far") as made:
        # The path is the only way: nobody forwards around it.
        made.run("path", "sysctl -qw net.ipv4.ip_forward=0")
        yield made


@contextmanager
def far_end(row: Row, folder: Path) -> Iterator[object]:
    with rig.far_end(folder, FAR, prefix=row.inside("far"), more=("--browser",)) as process:
        row.await_port("far", rig.CONTROL_PORT)
        yield process


def most_kbps(line_kbps: float, fill_s: float) -> float:
    """Of the steady part of a fill: a browser that stood still in its first seconds takes in later what the line had
    carried by then."""
    return line_kbps * fill_s / (fill_s - SETTLE_S)


@dataclass
class OnTheWay:
    """What the path says of one direction's datagrams with packets of a call."""

    held_ms: list[float]
    lost: int
    alone: bool
    """Each packet in a datagram of its own: what waits in a browser that stood still goes many to one, and in parts."""


def on_the_way(truth: Path, direction: str) -> OnTheWay:
    with truth.open() as file:
        rows = [(one, int(one["bytes"]) - UNDER_CHUNKS) for one in csv.DictReader(file)]
    # The handshake before the first packet has datagrams as large.
    begin = next(at for at, (_, chunks) in enumerate(rows) if chunks == CHUNK_BYTES)
    ours = [(one, chunks) for one, chunks in rows[begin:] if one["direction"] == direction and chunks >= CHUNK_BYTES]
    single = [one for one, chunks in ours if chunks < 2 * CHUNK_BYTES]
    return OnTheWay(
        sorted((int(one["out_us"]) - int(one["in_us"])) / 1000 for one in single if one["fate"] == "passed"),
        sum(one["fate"] in ("lost", "queue") for one in single),
        len(single) == len(ours) == PLANNED,
    )


def test_a_call_from_a_browser_tells_what_the_path_did(row: Row, tmp_path: Path) -> None:
    """From the link to the evidence: loss exact, delay within what both ends say of themselves."""
    script = {"seed": 5, "up": {"delay_ms": 40, "loss_pct": 4}, "down": {"delay_ms": 40, "loss_pct": 2}}
    with (
        far_end(row, tmp_path),
        rig.path(tmp_path, PATH, FAR, script, prefix=row.inside("path")) as truth,
        desk(row, tmp_path) as at,
    ):
        row.await_port("path", rig.CONTROL_PORT)
        at.open()
        assert "no microphone or camera is asked for" in at.page.text()
        at.page.press("Start the test")
        at.page.see("Packets are travelling", LONG_S)
        run = at.await_state("done", "failed")
        assert run.state == "done", run.failure
        at.page.see("What was found", LONG_S)
        at.page.see("From here", LONG_S)
        directions = {one.direction: one.figures for one in call_store.directions_of_run(at.db, run.id)}
        check = run_store.self_check(run.self_check)
        assert at.page.driver.execute_script("return document.documentElement.scrollWidth") <= 390
    assert check is not None
    assert check.probe.scatter_ms is not None
    assert check.far_end.scatter_ms is not None
    own_ms = check.probe.scatter_ms.max + check.far_end.scatter_ms.max
    for way, figures in directions.items():
        told = on_the_way(truth, way)
        assert figures.sent == PLANNED
        assert figures.dscp_received == {}
        assert figures.lost >= told.lost
        if check.tainted:
            continue  # an end stood still, and says so: what it lost and held up is its own
        assert figures.lost == told.lost or not told.alone
        assert told.held_ms[0] - 3 <= figures.delay_min_ms <= told.held_ms[-1] + own_ms + 3


def test_udp_that_is_blocked_is_told_as_that(row: Row, tmp_path: Path) -> None:
    with far_end(row, tmp_path), rig.path(tmp_path, PATH, FAR, {}, prefix=row.inside("path")):
        row.await_port("path", rig.CONTROL_PORT)
        row.nft(
            "site", "table inet t {\n chain out {\n type filter hook output priority 0\n meta l4proto udp drop\n }\n}\n"
        )
        with desk(row, tmp_path) as at:
            at.open()
            at.page.press("Start the test")
            at.page.see("No media came through", LONG_S)
            run = at.run()
    assert (run.state, run.failure_code) == ("failed", "no-media")
    assert run.server_reachable


def test_a_far_end_that_goes_away_leaves_what_the_browser_has(row: Row, tmp_path: Path) -> None:
    with far_end(row, tmp_path) as process, rig.path(tmp_path, PATH, FAR, {}, prefix=row.inside("path")):
        row.await_port("path", rig.CONTROL_PORT)
        with desk(row, tmp_path) as at:
            at.open()
            at.page.press("Start the test")
            at.page.see("Packets are travelling", LONG_S)
            rig.eventually(lambda: "arrived at the far end" in at.page.text(), "the first second", LONG_S)
            for number in [*rig.processes_below(process.pid), process.pid]:  # type: ignore[attr-defined]
                rig.kill_hard(number)
            run = at.await_state("done", "failed")
            assert run.state == "done", run.failure
            at.page.see("It was broken off", LONG_S)
            down = next(d for d in call_store.directions_of_run(at.db, run.id) if d.direction == "down")
    assert run.cut_reason == "The far end has said nothing for 8 s."
    assert run.server_reachable
    assert down.cut
    assert down.figures.received < PLANNED


def test_a_page_in_the_background_goes_on_and_says_for_how_long(row: Row, tmp_path: Path) -> None:
    with far_end(row, tmp_path), rig.path(tmp_path, PATH, FAR, {}, prefix=row.inside("path")):
        row.await_port("path", rig.CONTROL_PORT)
        with desk(row, tmp_path, whole=True) as at:
            at.open()
            at.page.press("Start the test")
            at.page.see("Packets are travelling", LONG_S)
            driver = at.page.driver
            first = driver.current_window_handle
            driver.switch_to.new_window("tab")
            rig.eventually(lambda: at.run().state == "done", "the result", LONG_S)
            driver.switch_to.window(first)
            check = run_store.self_check(at.run().self_check)
            sent = {d.direction: d.figures.sent for d in call_store.directions_of_run(at.db, at.run().id)}
    assert check is not None
    assert check.probe.hidden_s > 1
    assert sent == {"up": PLANNED, "down": PLANNED}


_PORTAL = """
const own = window.fetch;
window.fetch = (to, how) => {{
  if (how?.method !== "PUT") return own(to, how);
  window.portalAsked = true;
  return Promise.resolve(new Response("<html>Sign in</html>", {{status: {status}}}));
}};
"""


def test_a_page_closed_before_it_could_deliver_does_so_when_the_link_is_opened_again(row: Row, tmp_path: Path) -> None:
    script = {"seed": 7, "up": {"delay_ms": 5}, "down": {"delay_ms": 5}}
    with (
        far_end(row, tmp_path),
        rig.path(tmp_path, PATH, FAR, script, prefix=row.inside("path")),
        desk(row, tmp_path) as at,
    ):
        row.await_port("path", rig.CONTROL_PORT)
        at.open()
        # The line to the server gives out as the test ends.
        at.page.driver.execute_cdp_cmd("Network.enable", {})
        at.page.driver.execute_cdp_cmd("Network.setBlockedURLs", {"urls": ["*/half"]})
        at.page.press("Start the test")
        at.page.see("Delivering what was measured", LONG_S)
        run = at.await_state("running")
        kept = "indexedDB.databases().then(all => arguments[0](all.map(one => one.name)))"
        rig.eventually(
            lambda: at.page.driver.execute_async_script(kept) == ["tarnfell-test"], "a half that is kept", LONG_S
        )
        at.page.driver.get("about:blank")
        with writing(at.db):
            job_store.give_up_silent(at.db, [run.id])
        assert "Opening the link again" in (at.run().failure or "")
        at.page.driver.execute_cdp_cmd("Network.setBlockedURLs", {"urls": []})
        # A portal answers in the server's place, first as if all were well and then as if nothing were allowed.
        for status in (200, 403):
            portal = at.page.driver.execute_cdp_cmd(
                "Page.addScriptToEvaluateOnNewDocument", {"source": _PORTAL.format(status=status)}
            )
            at.page.go(f"/test/{at.code}")
            at.page.see("What will happen")
            rig.eventually(lambda: at.page.driver.execute_script("return window.portalAsked"), "the portal to be asked")
            at.page.driver.execute_cdp_cmd("Page.removeScriptToEvaluateOnNewDocument", portal)
        at.page.go(f"/test/{at.code}")
        at.page.see("It is delivered now.")
        done = at.await_state("done")
        figures = {one.direction: one.figures for one in call_store.directions_of_run(at.db, done.id)}
        assert {way: one.sent for way, one in figures.items()} == {"up": PLANNED, "down": PLANNED}
        # Brought once: whoever opens it a third time is told nothing.
        at.page.go(f"/test/{at.code}")
        at.page.see("What will happen")
        assert "delivered now" not in at.page.text()


_LEAVES_BY_ITSELF = """
addEventListener("beforeunload", (event) => event.stopImmediatePropagation());
const looking = setInterval(() => {
  if (Number(document.querySelector("[role=progressbar]")?.ariaValueNow ?? 0) < 3) return;
  clearInterval(looking);
  location.assign("about:blank");
}, 50);
"""
"""In the third second, however long it takes to tell a browser to; nobody asks whether that is meant."""


def test_a_page_closed_in_the_middle_keeps_what_it_has_until_the_link_is_opened_again(row: Row, tmp_path: Path) -> None:
    script = {"seed": 7, "up": {"delay_ms": 5}, "down": {"delay_ms": 5}}
    with (
        far_end(row, tmp_path),
        rig.path(tmp_path, PATH, FAR, script, prefix=row.inside("path")),
        desk(row, tmp_path) as at,
    ):
        row.await_port("path", rig.CONTROL_PORT)
        at.open()
        at.page.driver.execute_script(_LEAVES_BY_ITSELF)
        at.page.press("Start the test")
        rig.eventually(lambda: at.page.driver.current_url == "about:blank", "a page that was left", LONG_S)
        at.page.go(f"/test/{at.code}")
        at.page.see("It is delivered now.")
        done = at.await_state("done", "failed")
        assert (done.state, done.failure) == ("done", None)
        told = [row[0] for row in at.db.execute("SELECT words FROM job_event WHERE job_id = ?", (done.id,))]
        assert "Stopped early; what was measured is kept." in told
        figures = {one.direction: one.figures for one in call_store.directions_of_run(at.db, done.id)}
        left = at.page.driver.execute_script("return Object.keys(localStorage)")
    assert set(figures) == {"up", "down"}
    for one in figures.values():
        # Three seconds at least, and nothing of what the far end went on sending counted as lost.
        assert 60 <= one.sent < PLANNED
        assert one.received >= 0.9 * one.sent
    assert left == []


def test_the_page_is_light_and_holds_on_a_phone(row: Row, tmp_path: Path) -> None:
    """What is fetched before anything runs, compressed as a proxy in front would, is at most 120 kB."""
    import gzip

    web = Path(__file__).parents[2] / "tarnfell" / "web"
    with desk(row, tmp_path) as at:
        at.open()
        fetched = at.page.driver.execute_script(
            "return performance.getEntriesByType('resource').map(e => new URL(e.name).pathname)"
        )
        wide = at.page.driver.execute_script("return document.documentElement.scrollWidth")
        assert at.page.driver.find_elements(By.TAG_NAME, "h1")
        assert at.page.violations() == []
    files = [web / name.lstrip("/") for name in {*fetched, "/test.html"} if not name.startswith("/api/")]
    total = sum(len(gzip.compress(file.read_bytes())) for file in files if file.is_file())
    assert 40_000 < total <= 120_000
    assert wide <= 390
