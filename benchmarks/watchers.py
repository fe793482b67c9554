"""Fifty people at one run while it is on: what each of their requests takes, and whether the database ever says no.

Each asks as the browser does, once a second; a simulated probe tells each second of thirty calls. Yardstick: the same
requests of one person, with nobody else looking.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from benchmarks.fleet import Person, ask
from tarnfell.store import places, probes, runs, sites
from tarnfell.store.db import open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.store.people import add_user
from tarnfell.wire.kinds.surroundings import Surroundings
from tests import rig
from tests.server.conftest import SITE

WATCHERS, CALLS, SECONDS = 50, 30, 30
REFUSED: Counter[str] = Counter()
"""Answers that were a problem, by status."""
STREAM = {"sent": 50, "received": 50, "reached": 50, "late": 0, "jitter_us": 100, "pdv_us": 900}


def report() -> str:
    with tempfile.TemporaryDirectory() as name:
        secret, run_id = _set_up(Path(name))
        port = rig.free_port()
        serve = ("-m", "tarnfell.cli", "serve", "--data", name, "--bind", f"127.0.0.1:{port}")
        with rig.process(*serve, "--log-level", "warning", stdout=subprocess.DEVNULL):
            rig.await_port("127.0.0.1", port)
            ask(port, "POST", "/api/probe/heartbeat", secret, b'{"environment": null, "holds": [], "kinds": ["calls"]}')
            stop = threading.Event()
            probe = threading.Thread(target=_tell, args=(port, secret, run_id, stop))
            probe.start()
            time.sleep(2)
            alone = _watch(Person(port), run_id, SECONDS)
            crowd: list[list[float]] = []
            people = [Person(port) for _ in range(WATCHERS)]  # signing in costs a password hash each, and is done once
            watchers = [
                threading.Thread(target=lambda one=one: crowd.append(_watch(one, run_id, SECONDS))) for one in people
            ]
            for watcher in watchers:
                watcher.start()
                time.sleep(1 / WATCHERS)
            for watcher in watchers:
                watcher.join()
            stop.set()
            probe.join()
    together = [took for one in crowd for took in one]
    refused = REFUSED.total()
    rows = [("one person (yardstick)", alone), (f"{WATCHERS} people", together)]
    lines = [
        f"## {WATCHERS} people at one live run",
        "",
        f"A run of {CALLS} calls, told second by second. Each person asks for the run and for what is new once a "
        f"second, for {SECONDS} s; milliseconds a request. Watchers, probe and server share this machine. Requests "
        f"that were refused: {refused}.",
        "",
        "| looking | median | p95 | × yardstick (p95) |",
        "|---|---:|---:|---:|",
    ]
    base = _p95(alone)
    lines += [f"| {who} | {statistics.median(t):.1f} | {_p95(t):.1f} | {_p95(t) / base:.1f} |" for who, t in rows]
    return "\n".join(lines)


def _set_up(folder: Path) -> tuple[str, int]:
    db = open_database(folder)
    with writing(db):
        site = sites.add_site(db, add_engagement(db, "bench", "Bench"), **SITE)
        adopt(db, add_user(db, Person.EMAIL, "Bench", Person.PASSWORD).id)
        far = places.add_far_end(db, "far", "", "192.0.2.1", 4870, "a-key-that-nobody-uses")
        probe = probes.add_probe(db, site, places.add_test_point(db, site, "desk", "desk"), "probe")
        enrolled = probes.enrol(db, probes.invite(db, probe), Surroundings(system="simulated"))
        spec = runs.RunSpec(site_id=site, probe_id=probe, far_end_id=far, codec="g711a", ptime_ms=20, calls=CALLS,
                            seconds=600, dscp=46)  # fmt: skip
        run = runs.add_run(db, spec, "")
    db.close()
    assert enrolled is not None
    return enrolled[1], run.id


def _tell(port: int, secret: str, run_id: int, stop: threading.Event) -> None:
    second = 0
    while not stop.wait(1):
        second += 1
        streams = [{name: value * second for name, value in STREAM.items()}] * CALLS
        body = {"second": second, "up": streams, "down": streams, "rtt_us": 20_000, "send_late_max_us": 100}
        ask(port, "POST", f"/api/probe/jobs/{run_id}/progress", secret, json.dumps(body).encode())


def _watch(person: Person, run_id: int, seconds: int) -> list[float]:
    found: list[float] = []
    after = 0
    for _ in range(seconds):
        begun = time.perf_counter()
        run = person.get(f"/api/runs/{run_id}")
        between = time.perf_counter()
        live = person.get(f"/api/runs/{run_id}/live?after={after}")
        ended = time.perf_counter()
        REFUSED.update(str(one["status"]) for one in (run, live) if "status" in one)
        after = max([second["second"] for second in live.get("seconds", [])], default=after)
        found += [1000 * (between - begun), 1000 * (ended - between)]
        time.sleep(max(0.0, 1 - (ended - begun)))
    return found


def _p95(times: list[float]) -> float:
    return statistics.quantiles(times, n=20)[-1]
