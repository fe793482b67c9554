"""API and page time for a site with seven days. Yardstick: the same server answering who is signed in."""

from __future__ import annotations

import socket
import statistics
import tempfile
import time
import urllib.request
from datetime import UTC, datetime
from http.cookiejar import CookieJar
from pathlib import Path

from tarnfell.demo.history import make_history
from tarnfell.demo.scenario import PASSWORD, USER_EMAIL

ROUNDS = 30


def report() -> str:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        begun = time.perf_counter()
        make_history(folder, datetime.now(UTC))
        made_s = time.perf_counter() - begun
        size_mb = sum(f.stat().st_size for f in folder.glob("tarnfell.sqlite*")) / 1e6
        rows = _serve_and_ask(folder)
    lines = [
        "## Pages",
        "",
        f"Making the demo's history (2 sites × 7 days, simulated packet by packet, judged and stored) took "
        f"{made_s:.1f} s; the database is {size_mb:.1f} MB.",
        "",
        f"Times of {ROUNDS} requests over HTTP on loopback, milliseconds. First is the first request after the server "
        "started, before anything is kept.",
        "",
        "| request | first | median | max | × yardstick |",
        "|---|---:|---:|---:|---:|",
    ]
    yardstick = rows[0][2]
    for name, first, middle, worst in rows:
        lines.append(f"| {name} | {first:.1f} | {middle:.1f} | {worst:.1f} | {middle / yardstick:.1f} |")
    return "\n".join(lines)


def _serve_and_ask(folder: Path) -> list[tuple[str, float, float, float]]:
    import json
    import subprocess
    import sys

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    base = f"http://127.0.0.1:{port}"
    server = subprocess.Popen(
        [sys.executable, "-m", "tarnfell.cli", "serve", "--data", str(folder), "--bind", f"127.0.0.1:{port}"],
        stderr=subprocess.DEVNULL,
    )
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
    try:
        deadline = time.monotonic() + 20
        while True:
            try:
                opener.open(f"{base}/api/openapi.json").close()
                break
            except OSError:
                if time.monotonic() > deadline:
                    raise
                time.sleep(0.1)
        body = json.dumps({"email": USER_EMAIL, "password": PASSWORD}).encode()
        opener.open(urllib.request.Request(f"{base}/api/session", body, {"Content-Type": "application/json"})).close()
        asked = (
            ("who is signed in (yardstick)", "/api/session"),
            ("comparison of the engagement", "/api/engagements/merrow-sound-ferries"),
            ("site with seven days", "/api/sites/skerry-road"),
            ("one call with its packets", "/api/calls/500"),
            ("report as HTML", "/api/sites/skerry-road/report.html"),
            ("report as PDF", "/api/sites/skerry-road/report.pdf"),
        )
        return [(name, *_time(opener, base + path, 3 if path.endswith("pdf") else ROUNDS)) for name, path in asked]
    finally:
        server.terminate()
        server.wait()


def _time(opener: urllib.request.OpenerDirector, url: str, rounds: int) -> tuple[float, float, float]:
    times = []
    for _ in range(rounds):
        begun = time.perf_counter()
        with opener.open(url) as answer:
            answer.read()
        times.append(1000 * (time.perf_counter() - begun))
    return times[0], statistics.median(times), max(times)
