"""The live view with a hundred calls, and how soon a stop from the browser is a stop on the wire.

The view is the real one in headless Chromium before a server whose run is told second by second as a probe would.
Yardstick: the same with one call. Stops are of real calls between processes on this machine.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import tempfile
import threading
import time
import urllib.request
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from selenium.webdriver.remote.webdriver import WebDriver
from websocket import create_connection

from benchmarks.fleet import Person, ask
from benchmarks.pauses import witnessed
from tarnfell.probe.agent import enrol
from tarnfell.probe.state import State
from tarnfell.store import calls as call_store
from tarnfell.store import places, probes, runs, sites
from tarnfell.store.db import connect, open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.store.people import add_user
from tests import rig
from tests.browser.driver import Page, chromium
from tests.server.conftest import SITE

WATCHED_S, STOPS = 60, 10
LONG_MS = 50


@dataclass(frozen=True)
class Watched:
    """The tasks of the page's main thread, in milliseconds: by the clock, and without what was not theirs.

    A task's own time is the lesser of two upper bounds: the processor time it is said to have used, and the time by
    the clock less the machine's pauses.
    """

    clock_ms: list[float]
    own_ms: list[float]

    def row(self, calls: int, yardstick: Watched) -> str:
        busy, ours = sum(self.own_ms), sum(yardstick.own_ms)
        beyond = [sum(ms > LONG_MS for ms in tasks) for tasks in (self.own_ms, self.clock_ms)]
        return (
            f"| {calls} | {busy / WATCHED_S:.1f} | {busy / ours:.1f} | {max(self.own_ms):.1f} | {beyond[0]} "
            f"| {beyond[1]} | {max(self.clock_ms):.0f} |"
        )


def report() -> str:
    views = {calls: _view(calls) for calls in (1, 100)}
    stops = _stops()
    lines = [
        "## Live",
        "",
        f"The live view over {WATCHED_S} s of a run, redrawn once a second: every task of the page's main thread, as "
        "the browser itself traces them, with a witness on the browser's processor that notes when this machine took "
        "that processor away. By the clock such pauses are in the tasks they fell into; own time is without them.",
        "",
        f"| calls | busy, ms a second | × yardstick | longest task, own ms | tasks over {LONG_MS} ms, own time "
        "| by the clock | longest by the clock, ms |",
        "|---:|---:|---:|---:|---:|---:|---:|",
    ]
    lines += [watched.row(calls, views[1]) for calls, watched in views.items()]
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
            site = sites.add_site(db, add_engagement(db, "bench", "Bench"), **SITE)
            adopt(db, add_user(db, Person.EMAIL, "Bench", Person.PASSWORD).id)
            far = places.add_far_end(db, "far", "", far_host, rig.CONTROL_PORT, rig.KEY)
            places.choose_far_end(db, site, far)
            code = probes.invite(
                db, probes.add_probe(db, site, places.add_test_point(db, site, "desk", "desk"), "probe")
            )
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
            db,
            runs.RunSpec(
                site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=calls, seconds=seconds, dscp=46
            ),
            "",
        )
    db.close()
    return run.id


def _view(calls: int) -> Watched:
    with _server("192.0.2.1") as (folder, port, code):
        answer = ask(port, "POST", "/api/probe/enrol", "", json.dumps({"token": code}).encode())
        secret = json.loads(answer)["secret"]
        run = _run(folder, calls, 600)
        ask(port, "POST", "/api/probe/heartbeat", secret, b"{}")
        stop = threading.Event()
        teller = threading.Thread(target=_tell, args=(port, run, calls, secret, stop), daemon=True)
        teller.start()
        everywhere = os.sched_getaffinity(0)
        browsers = max(everywhere)
        os.sched_setaffinity(0, {browsers})  # handed on to the browser, and to nothing started before
        try:
            with chromium() as driver:
                os.sched_setaffinity(0, everywhere)
                page = Page(driver, f"http://127.0.0.1:{port}")
                page.sign_in(Person.EMAIL, Person.PASSWORD)
                page.go(f"/runs/{run}")
                page.see("Both directions are flowing")
                time.sleep(5)  # what the first seconds of a page cost is not the live view's
                with witnessed(browsers) as pauses:
                    tasks = _tasks(driver)
        finally:
            os.sched_setaffinity(0, everywhere)
        stop.set()
        teller.join(5)
    clock = [task["dur"] / 1000 for task in tasks]
    paused = [pauses.within(1000 * task["ts"], 1000 * (task["ts"] + task["dur"])) / 1e6 for task in tasks]
    own = [min(task["tdur"] / 1000, ms - lost) for task, ms, lost in zip(tasks, clock, paused, strict=True)]
    return Watched(clock, own)


def _tasks(driver: WebDriver) -> list[dict[str, Any]]:
    """Every task of the page's thread, the busiest of the renderers' main threads, by the browser's own trace."""
    browser = "http://" + driver.capabilities["goog:chromeOptions"]["debuggerAddress"] + "/json/version"
    with urllib.request.urlopen(browser, timeout=20) as answer:
        address = json.load(answer)["webSocketDebuggerUrl"]
    traced: list[dict[str, Any]] = []
    tools = create_connection(address, timeout=60, suppress_origin=True)
    try:
        config = {"includedCategories": ["disabled-by-default-devtools.timeline"], "excludedCategories": ["*"]}
        tools.send(json.dumps({"id": 1, "method": "Tracing.start", "params": {"traceConfig": config}}))
        time.sleep(WATCHED_S)
        tools.send(json.dumps({"id": 2, "method": "Tracing.end"}))
        while (told := json.loads(tools.recv())).get("method") != "Tracing.tracingComplete":
            if told.get("method") == "Tracing.dataCollected":
                traced += told["params"]["value"]
    finally:
        tools.close()
    mains = {e["tid"] for e in traced if e["name"] == "thread_name" and e["args"]["name"] == "CrRendererMain"}
    tasks = [e for e in traced if e["name"] == "RunTask" and e["tid"] in mains and "tdur" in e]
    used: Counter[int] = Counter()
    for task in tasks:
        used[task["tid"]] += task["tdur"]
    ((page, _),) = used.most_common(1)
    return [task for task in tasks if task["tid"] == page]


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
