"""The live view with a hundred calls, and how soon a stop from the browser is a stop on the wire.

The view is the real one in headless Chromium before a server whose run is told second by second as a probe would.
Yardstick: the same with one call. Stops are of real calls between processes on this machine.
"""

from __future__ import annotations

import json
import random
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from benchmarks.fleet import Person, ask
from tarnfell.probe.agent import enrol
from tarnfell.probe.state import State
from tarnfell.store import calls as call_store
from tarnfell.store import places, probes, runs, sites
from tarnfell.store.db import connect, open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.people import add_user
from tests import rig
from tests.browser.driver import Page, chromium
from tests.server.conftest import SITE

WATCHED_S, STOPS = 30, 10
LONG_MS = 50
KEEP_LONG_TASKS = (
    "window.long = []; new PerformanceObserver(list => list.getEntries().forEach(e => window.long.push(e.duration)))"
    ".observe({entryTypes: ['longtask']}); window.frames = 0;"
    "const beat = () => { window.frames += 1; requestAnimationFrame(beat) }; beat();"
)


def report() -> str:
    views = {calls: _view(calls) for calls in (1, 100)}
    stops = _stops()
    lines = [
        "## Live",
        "",
        f"The live view over {WATCHED_S} s of a run, redrawn once a second. Busy is the processor time of the page's "
        f"main thread: while it stays under {LONG_MS} ms a second no single task can take longer. Long tasks are those "
        f"that lasted over {LONG_MS} ms by the clock, this machine's own pauses among them, as the yardstick shows.",
        "",
        "| calls | busy, ms a second | × yardstick | long tasks | longest, ms | frames a second |",
        "|---:|---:|---:|---:|---:|---:|",
    ]
    lines += [
        f"| {calls} | {busy:.1f} | {busy / views[1][2]:.1f} | {len(long)} | {max(long, default=0):.0f} | {rate:.0f} |"
        for calls, (long, rate, busy) in views.items()
    ]
    ordered = sorted(stops)
    lines += [
        "",
        f"From asking the server to stop a run of 10 calls to the last packet that left either end, {STOPS} times: "
        f"middle {ordered[STOPS // 2]:.2f} s, longest {ordered[-1]:.2f} s, of the 2 s allowed.",
    ]
    return "\n".join(lines)


@contextmanager
def _server(far_host: str) -> Iterator[tuple[Path, int, str]]:
    """A server with one site; its folder, port, and the code of its probe."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        db = open_database(folder)
        with writing(db):
            add_user(db, Person.EMAIL, "Bench", Person.PASSWORD)
            site = sites.add_site(db, add_engagement(db, "bench", "Bench"), **SITE)
            far = places.add_far_end(db, "far", "", far_host, rig.CONTROL_PORT, rig.KEY)
            places.choose_far_end(db, site, far)
            code = probes.invite(db, probes.add_probe(db, site, places.add_spot(db, site, "desk", "desk"), "probe"))
        db.close()
        port = 18_000 + (hash(name) % 2000)
        serve = ("-m", "tarnfell.cli", "serve", "--data", name, "--bind", f"127.0.0.1:{port}")
        with rig.process(*serve, stdout=subprocess.DEVNULL):
            rig.await_port("127.0.0.1", port)
            yield folder, port, code


def _run(folder: Path, calls: int, seconds: int) -> int:
    db = connect(folder)
    with writing(db):
        run = runs.add_run(
            db, site_id=1, probe_id=1, far_end_id=1, purpose="placed", codec="g711a", ptime_ms=20, calls=calls,
            seconds=seconds, dscp=46, asked_by=None, words="",
        )  # fmt: skip
    db.close()
    return run.id


def _view(calls: int) -> tuple[list[float], float, float]:
    """Long tasks in milliseconds, frames a second, and the main thread's milliseconds of processor time a second."""
    with _server("192.0.2.1") as (folder, port, code):
        answer = ask(port, "POST", "/api/probe/enrol", "", json.dumps({"token": code}).encode())
        secret = json.loads(answer)["secret"]
        run = _run(folder, calls, 600)
        ask(port, "POST", "/api/probe/heartbeat", secret, b"{}")
        stop = threading.Event()
        teller = threading.Thread(target=_tell, args=(port, run, calls, secret, stop), daemon=True)
        teller.start()
        with chromium() as driver:
            page = Page(driver, f"http://127.0.0.1:{port}")
            page.sign_in(Person.EMAIL, Person.PASSWORD)
            page.go(f"/runs/{run}")
            page.see("Both directions are flowing")
            driver.execute_cdp_cmd("Performance.enable", {"timeDomain": "threadTicks"})
            before = _busy_s(page)
            time.sleep(WATCHED_S)
            busy_s = _busy_s(page) - before
            driver.execute_script(KEEP_LONG_TASKS)  # its own counting of frames would keep the thread busy as well
            time.sleep(WATCHED_S)
            long, frames = driver.execute_script("return [window.long, window.frames]")
        stop.set()
        teller.join(5)
    return [float(ms) for ms in long], frames / WATCHED_S, 1000 * busy_s / WATCHED_S


def _busy_s(page: Page) -> float:
    metrics = page.driver.execute_cdp_cmd("Performance.getMetrics", {})["metrics"]
    return next(float(m["value"]) for m in metrics if m["name"] == "TaskDuration")


def _tell(port: int, run: int, calls: int, secret: str, stop: threading.Event) -> None:
    """Second by second, as a probe with a little loss would."""
    seed = random.Random(7)
    counts = [[0, 0] for _ in range(2 * calls)]
    second = 0
    while not stop.wait(1):
        second += 1
        for count in counts:
            count[0] += 50
            count[1] += 50 - (seed.random() < 0.05)
        rows = [
            {"sent": s, "received": r, "reached": s, "late": 0, "jitter_us": 900, "pdv_us": 1000} for s, r in counts
        ]
        body = {"second": second, "up": rows[:calls], "down": rows[calls:], "rtt_us": 30_000, "send_late_max_us": 90}
        ask(port, "POST", f"/api/probe/jobs/{run}/progress", secret, json.dumps(body).encode())


def _stops() -> list[float]:
    """Seconds from asking the server to the last packet."""
    far = rig.own_address()
    with _server(far) as (folder, port, code), rig.far_end(folder, far):
        state = State(folder / "probe")
        enrol(f"http://127.0.0.1:{port}", code, state)
        person = Person(port)
        with rig.process("-m", "tarnfell.cli", "probe", "run", "--state", str(folder / "probe")):
            return [_stop_one(folder, person) for _ in range(STOPS)]


def _stop_one(folder: Path, person: Person) -> float:
    run = _run(folder, 10, 120)
    rig.eventually(lambda: len(person.get(f"/api/runs/{run}/live")["seconds"]) >= 3, "three seconds of the run")
    time.sleep(random.random())
    asked_us = time.time_ns() // 1000
    person.post(f"/api/runs/{run}/stop", {})
    rig.eventually(lambda: person.get(f"/api/runs/{run}")["state"] == "done", "the run to end")
    db = connect(folder)
    records = [call.record for call in call_store.calls_of_run(db, run)]
    last = max(record.values(f"{way}.sent_us")[-1] for record in records for way in ("up", "down"))
    db.close()
    return (last - asked_us) / 1e6
