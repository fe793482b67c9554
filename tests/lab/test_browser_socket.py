"""A real browser where UDP is blocked and no relay is there: its calls over a WebSocket through a known path."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tests import rig
from tests.lab.conftest import NEEDS_ROOT, row_of
from tests.lab.test_browser import LONG_S, PLANNED, desk

pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not shutil.which("chromedriver"), reason="needs Debian's chromium and chromium-driver"),
]

PORT = 8081
NO_UDP = "table inet t {\n chain out {\n type filter hook output priority 0\n meta l4proto udp drop\n }\n}\n"
NO_SOCKETS = (
    "table inet t {\n chain out {\n type filter hook output priority 0\n meta l4proto udp drop\n "
    f"tcp dport {PORT} reject with tcp reset\n }}\n}}\n"
)


@pytest.mark.parametrize("passes", [True, False])
def test_where_udp_is_blocked_calls_go_over_a_websocket_or_it_is_told_that_none_opens(
    passes: bool, tmp_path: Path
) -> None:
    with (
        row_of("site", "line", "far") as row,
        rig.far_end(tmp_path, row.address["far"], prefix=row.inside("far"), more=("--browser",)),
    ):
        sockets = ("--websocket", f"{row.address['far']}:{PORT}")
        with desk(row, tmp_path, row.address["far"], server="far", more=sockets) as at:
            row.await_port("far", rig.CONTROL_PORT)
            row.await_port("far", PORT)
            row.nft("site", NO_UDP if passes else NO_SOCKETS)
            at.open()
            at.page.see("over the web connection by which this page came")
            at.page.press("Start the test")

            def runs() -> list[run_store.Run]:
                return [run_store.run_by_id(at.db, one) for one in browser_store.newest_runs(at.db, at.browser, 9)]

            ends = ["done", "failed"] if passes else ["failed", "failed"]
            rig.eventually(lambda: [run.state for run in runs()] == ends, "both", LONG_S)
            second, straight = runs()
            at.page.see("over a WebSocket to this server instead", LONG_S)
            ways = [browser_store.way_of(at.db, one.id) for one in (straight, second)]
            tried, _ = browser_store.reach_of(at.db, straight.id)
            reach, _ = browser_store.reach_of(at.db, second.id)
            found = {one.direction: one.figures for one in call_store.directions_of_run(at.db, second.id)}
            check = run_store.self_check(second.self_check) if passes else None
    assert straight.failure_code == "unreachable"
    assert ways == ["straight", "socket"]
    assert tried.web is not None
    assert (tried.web.asked, tried.web.answered) == (20, 20)
    assert 0 < tried.web.median_ms <= tried.web.most_ms
    assert reach.web == tried.web
    if not passes:
        assert second.failure is not None
        assert second.failure.startswith("No WebSocket opened to this server")
        return
    assert reach.page is not None
    assert reach.page.own == "socket"
    # TCP brings everything.
    assert {way: one.received for way, one in found.items()} == {"up": PLANNED, "down": PLANNED}
    assert check is not None
    assert check.far_end is not None
    assert check.far_end.arrangement == "a WebSocket over TCP, one loop"
    assert "a page in a browser, over a WebSocket" in check.probe.arrangement
