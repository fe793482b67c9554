"""A real browser behind a narrow line: what it finds when it fills that line itself."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tarnfell.store import browsers as browser_store
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store.jobs import Job
from tests import rig
from tests.lab.conftest import NEEDS_ROOT, row_of
from tests.lab.test_browser import LONG_S, desk, most_kbps

pytestmark = [
    pytest.mark.lab,
    NEEDS_ROOT,
    pytest.mark.skipif(not shutil.which("chromedriver"), reason="needs Debian's chromium and chromium-driver"),
    pytest.mark.skipif(not shutil.which("tc"), reason="needs tc"),
]

FILL_S = 8
UP_KBPS, DOWN_KBPS = 1000, 4000
QUEUE_MS = 300


def test_a_narrow_line_is_filled_each_way_and_its_queue_is_found(tmp_path: Path) -> None:
    with row_of("site", "line", "far") as row:
        for device, kbps in (("r", UP_KBPS), ("l", DOWN_KBPS)):
            row.run("line", f"tc qdisc add dev {device} root tbf rate {kbps}kbit burst 5kb latency {QUEUE_MS}ms")
        with (
            rig.far_end(tmp_path, row.address["far"], prefix=row.inside("far"), more=("--browser",)),
            desk(row, tmp_path, row.address["far"], server="far", fill_s=FILL_S) as at,
        ):
            row.await_port("far", rig.CONTROL_PORT)

            def newest() -> Job:
                return job_store.newest_with(at.db, at.browser, "fill", 1)[0]

            at.open()
            assert "Then it fills the line for 8 s each way" in at.page.text()
            at.page.press("Start the test")
            at.page.see("Upload is being filled", LONG_S)
            rig.eventually(lambda: newest().state in ("done", "failed"), "the end of the fill", LONG_S)
            job = newest()
            assert job.state == "done", job.failure
            at.page.see("MOS, idle and full", LONG_S)
            assert at.page.driver.execute_script("return document.documentElement.scrollWidth") <= 390
            fill = fill_store.fill_by_id(at.db, job.id)
            way_back = browser_store.reach_of(at.db, job.id)[0].far
    assert way_back is not None
    assert way_back.path is not None, way_back.no_path
    assert [hop.address for hop in way_back.path.hops][-1:] == [row.address["site"]]
    assert len(way_back.path.hops) == 2  # the router, and the browser's host, which says that nobody listens there
    assert fill is not None
    assert fill.filled is not None, fill.failure
    phases = {phase.way: phase for phase in fill.filled.phases}
    assert set(phases) == {"idle", "up", "down"}
    for way, kbps in (("up", UP_KBPS), ("down", DOWN_KBPS)):
        side, idle = phases[way].side(way), phases["idle"].side(way)
        # What TCP carried is less than the line by the heads of its packets, and by the call beside it.
        assert 0 < (side.throughput_kbps or 0) < most_kbps(kbps, FILL_S), (way, side)
        if fill.filled.spoiled:
            continue  # this machine stood still, and says so: what is less than the line may be its own
        assert side.filled, (way, side)
        assert 0.5 * kbps < (side.throughput_kbps or 0), (way, side)
        assert (side.delay_added_p95_ms or 0) > 0.3 * QUEUE_MS, (way, side)
        assert (side.mos or 0) < (idle.mos or 0), (way, side, idle)
