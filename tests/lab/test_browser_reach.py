"""A real browser between several far ends: it finds the nearest, and tells how it came there."""

from __future__ import annotations

import shutil
from pathlib import Path
from urllib.parse import unquote

import pytest
from selenium.webdriver.common.by import By

from tarnfell.store import browsers as browser_store
from tarnfell.store import places as place_store
from tarnfell.store.db import connect, writing
from tarnfell.wire.kinds.reach import FamilyTried
from tests import rig
from tests.lab.conftest import NEEDS_ROOT, row_of
from tests.lab.test_browser import LONG_S, desk, far_end

pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not shutil.which("chromedriver"), reason="needs Debian's chromium and chromium-driver"),
]

SITE, PATH, FAR = "192.0.2.1", "192.0.2.2", "198.51.100.2"
HELD_MS = 60
NOBODY_PORT, NEAR_PORT = 9, 4990
NEXT_DOOR = ("--browser", "--control-port", str(NEAR_PORT), "--media-ports", "42000-42019")


def test_the_nearest_of_several_is_proposed_and_how_the_browser_came_there_is_told(tmp_path: Path) -> None:
    """Of three far ends one is next door, one behind a long way, and one is not there."""
    slow = {"up": {"delay_ms": HELD_MS}, "down": {"delay_ms": HELD_MS}}
    with (
        row_of("site", "path", "far") as row,
        far_end(row, tmp_path),
        rig.far_end(tmp_path, PATH, prefix=row.inside("path"), more=NEXT_DOOR),
        rig.path(tmp_path, PATH, FAR, slow, prefix=row.inside("path")),
        desk(row, tmp_path, PATH) as at,
    ):
        # The path is the only way to the far one: nobody forwards around it.
        row.run("path", "sysctl -qw net.ipv4.ip_forward=0")
        for port in (rig.CONTROL_PORT, NEAR_PORT):
            row.await_port("path", port)
        with connect(tmp_path / "data") as db, writing(db):
            site_id = db.execute("SELECT id FROM site").fetchone()[0]
            near = place_store.add_far_end(db, "near", "Quay", PATH, NEAR_PORT, rig.KEY)
            gone = place_store.add_far_end(db, "gone", "", PATH, NOBODY_PORT, rig.KEY)
            for one in (near, gone):
                place_store.choose_far_end(db, site_id, one)
        at.open()
        at.page.press("Start the test")
        at.page.see("Packets are travelling", LONG_S)
        run = at.await_state("done", "failed")
        assert run.state == "done", run.failure
        assert run.far_end_id == near
        at.page.see("there and back from this browser", LONG_S)
        at.page.see("Send a copy of the newest by e-mail", LONG_S)
        said = at.page.text()
        letter = unquote(at.page.driver.find_element(By.CSS_SELECTOR, "a[href^=mailto]").get_attribute("href") or "")
        reach, web_source = browser_store.reach_of(at.db, run.id)
    trips = {name: _trip_ms(said, name) for name in ("near", "far", "gone")}
    assert trips["near"] is not None
    assert trips["far"] is not None
    assert trips["far"] >= 2 * HELD_MS
    assert trips["near"] < trips["far"]
    assert trips["gone"] is None
    assert letter.startswith("mailto:?subject=Test calls from Reception, ")
    assert "\r\nFrom here: loss " in letter
    assert f"Packets went by UDP over IPv4 to {PATH} port " in letter
    assert letter.endswith(f"/test/{at.code}")
    assert reach.page is not None
    assert reach.far is not None
    assert (reach.page.transport, reach.page.relay, reach.page.address) == ("udp", "", PATH)
    assert reach.page.families == (FamilyTried("IPv4", "answered"),)
    assert reach.page.own in ("host", "prflx")
    assert (reach.far.address, web_source) == (SITE, SITE)
    assert reach.far.path is not None, reach.far.no_path
    assert [hop.address for hop in reach.far.path.hops] == [SITE], reach.far.path
    assert reach.far.path.reached


@pytest.mark.parametrize(("fate", "states"), [("accept", {"answered"}), ("drop", {"silent", "untried"})])
def test_each_family_of_addresses_is_tried(tmp_path: Path, fate: str, states: set[str]) -> None:
    with (
        row_of("site", "path") as row,
        rig.far_end(tmp_path, "::", prefix=row.inside("path"), more=("--browser",)),
        desk(row, tmp_path, PATH) as at,
    ):
        row.run("site", "ip -6 addr add 2001:db8::1/64 dev r nodad")
        row.run("path", "ip -6 addr add 2001:db8::2/64 dev l nodad")
        chain = f"type filter hook input priority 0; ip6 saddr 2001:db8::1 {fate}"
        row.nft("path", f"table inet t {{ chain i {{ {chain}; }}; }};\n")
        row.await_port("path", rig.CONTROL_PORT)
        at.open()
        at.page.press("Start the test")
        at.page.see("Packets are travelling", LONG_S)
        run = at.await_state("done", "failed")
        assert run.state == "done", run.failure
        reach, _ = browser_store.reach_of(at.db, run.id)
    assert reach.page is not None
    told = {one.family: one.state for one in reach.page.families}
    assert told["IPv6"] in states
    # What answers first is enough for a browser: the other family may not have been tried then.
    assert told["IPv4"] == "answered" or (fate == "accept" and told["IPv4"] == "untried")


def _trip_ms(said: str, name: str) -> float | None:
    """As the page tells it beside that far end."""
    line = next(line for line in said.splitlines() if line.startswith(name) and " · " in line)
    told = line.split(" · ")[1]
    return None if "cannot be tested to now" in told else float(told.split(" ms")[0].replace(",", ""))
