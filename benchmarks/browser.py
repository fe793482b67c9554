"""Calls from a real browser over a network that loses nothing: what is lost at the ends, and how late both are."""

from __future__ import annotations

import tempfile
import threading
import time
from pathlib import Path

from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.wire.kinds.selfcheck import EndCheck, Lateness
from tests import rig
from tests.lab.conftest import row_of
from tests.lab.test_browser import FAR, LONG_S, desk

CALLS = (1, 5, 10, 20)
WITNESS_S = 0.004
WORDS = (
    "Headless Chromium and a far end in network namespaces of their own, joined by links that lose and hold nothing; "
    "ten seconds each. The witness sleeps for 4 ms again and again meanwhile, as the page's worker does: how late it "
    "wakes is the machine's, not ours. Times are 99th percentiles in ms: how late each end sent, and how long what had "
    "arrived waited for it."
)
HEAD = (
    "| calls | sent each way | lost up, down | browser sent | took in | far end sent | took in | witness |",
    "|---:|---:|---:|---:|---:|---:|---:|---:|",
)


def report() -> str:
    return "\n".join(["## Calls from a browser", "", WORDS, "", *HEAD, *map(_measured, CALLS)])


def _measured(calls: int) -> str:
    late: list[float] = []
    over = threading.Event()
    with tempfile.TemporaryDirectory() as name, row_of("site", "path", "far") as row:
        folder = Path(name)
        with (
            rig.far_end(folder, FAR, prefix=row.inside("far"), more=("--browser",)),
            desk(row, folder, FAR, calls) as at,
        ):
            row.await_port("far", rig.CONTROL_PORT)
            at.open()
            at.page.press("Start the test")
            at.page.see("Packets are travelling", LONG_S)
            witness = threading.Thread(target=_witness, args=(late, over))
            witness.start()
            run = at.await_state("done", "failed")
            over.set()
            witness.join()
            directions = call_store.directions_of_run(at.db, run.id)
            check = run_store.self_check(run.self_check)
    assert check is not None, run.failure
    sent = {way: sum(d.figures.sent for d in directions if d.direction == way) for way in ("up", "down")}
    lost = {way: sum(d.figures.lost for d in directions if d.direction == way) for way in ("up", "down")}
    late.sort()
    ends = " | ".join(_late(check.probe) + _late(check.far_end))
    return f"| {calls} | {sent['up']} | {lost['up']}, {lost['down']} | {ends} | {late[len(late) * 99 // 100]:.1f} |"


def _late(end: EndCheck) -> list[str]:
    return [f"{(one or Lateness()).p99 or 0.0:.1f}" for one in (end.send_late_ms, end.scatter_ms)]


def _witness(late: list[float], over: threading.Event) -> None:
    while not over.is_set():
        begun = time.perf_counter()
        time.sleep(WITNESS_S)
        late.append(1000 * (time.perf_counter() - begun - WITNESS_S))
