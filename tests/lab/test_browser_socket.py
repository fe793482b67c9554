"""A real browser where UDP is blocked and no relay is there: its calls over a WebSocket through a known path."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.jobs import Job
from tests import rig
from tests.lab.conftest import NEEDS_ROOT, row_of
from tests.lab.test_browser import LONG_S, PLANNED, desk, most_kbps
from tests.lab.test_proxied import documented_proxy

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

UP_KBPS, DOWN_KBPS, QUEUE_MS, FILL_S = 1000, 4000, 300, 5


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
    assert straight.failure_code == "no-media"
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
    # TCP brings everything; what a machine that stands still brings after the end is not waited for.
    assert set(found) == {"up", "down"}
    assert all(0.8 * PLANNED <= one.received <= PLANNED for one in found.values())
    assert check is not None
    assert check.far_end is not None
    assert check.far_end.arrangement == "a WebSocket over TCP, one loop"
    assert "a page in a browser, over a WebSocket" in check.probe.arrangement


@pytest.mark.skipif(not (shutil.which("nginx") and shutil.which("tc")), reason="needs Debian's nginx, and tc")
def test_behind_a_proxy_calls_and_a_filled_line_go_over_the_pages_own_connection(tmp_path: Path) -> None:
    with row_of("site", "line", "far") as row:
        for device, kbps in (("r", UP_KBPS), ("l", DOWN_KBPS)):
            row.run("line", f"tc qdisc add dev {device} root tbf rate {kbps}kbit burst 5kb latency {QUEUE_MS}ms")
        sockets = ("--websocket", f"127.0.0.1:{PORT}")
        with (
            rig.far_end(tmp_path, row.address["far"], prefix=row.inside("far"), more=("--browser",)),
            documented_proxy(row, tmp_path),
            desk(row, tmp_path, row.address["far"], server="far", fill_s=FILL_S, more=sockets, proxied=True) as at,
        ):
            row.await_port("far", rig.CONTROL_PORT)
            row.await_port("far", PORT)
            row.nft("site", NO_UDP)
            at.open()
            at.page.press("Start the test")

            def newest() -> Job | None:
                return next(iter(job_store.newest_with(at.db, at.browser, "fill", 9)), None)

            rig.eventually(lambda: (one := newest()) and one.state in ("done", "failed"), "a filled line", LONG_S)
            job = newest()
            assert job is not None
            assert job.state == "done", job.failure
            runs = [run_store.run_by_id(at.db, one) for one in browser_store.newest_runs(at.db, at.browser, 9)]
            at.page.see("MOS, idle and full", LONG_S)
            at.page.see("with a call to far, which no UDP reached: over a WebSocket to this server instead")
            fill = fill_store.fill_by_id(at.db, job.id)
            reach, source = browser_store.reach_of(at.db, job.id)
    assert [(run.state, run.failure_code) for run in runs] == [("done", None), ("failed", "no-media")]
    # Once was enough to find that no UDP passes: the line is filled by the way that was found.
    assert len(job_store.newest_with(at.db, at.browser, "fill", 9)) == 1
    assert browser_store.way_of(at.db, job.id) == "socket"
    assert source == row.address["site"]  # as the proxy told it
    assert reach.page is not None
    assert reach.page.own == "socket"
    assert fill is not None
    assert fill.filled is not None, fill.failure
    for way, kbps in (("up", UP_KBPS), ("down", DOWN_KBPS)):
        side = next(one for one in fill.filled.phases if one.way == way).side(way)
        assert 0 < (side.throughput_kbps or 0) < most_kbps(kbps, FILL_S), (way, side)
        if not fill.filled.spoiled:
            assert side.loss_pct == 0
            assert 0.5 * kbps < (side.throughput_kbps or 0), (way, side)
            assert (side.delay_added_p95_ms or 0) > 0.3 * QUEUE_MS, (way, side)
