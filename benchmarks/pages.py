"""API and page time for a site with seven days. Yardstick: the same server answering who is signed in."""

from __future__ import annotations

import json
import socket
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from datetime import UTC, datetime
from http.cookiejar import CookieJar
from pathlib import Path

from tarnfell.demo.history import make_history
from tarnfell.demo.scenario import PASSWORD, USER_EMAIL

ROUNDS = 30
SITES_TO_PRINT = ("skerry-road", "harbour-house", "bench")


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
        "Making the demo's history (six sites, five of them with 7 days, simulated packet by packet and judged) "
        f"took {made_s:.1f} s; the database is {size_mb:.1f} MB.",
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
                opener.open(f"{base}/api/health").close()
                break
            except OSError:
                if time.monotonic() > deadline:
                    raise
                time.sleep(0.1)
        body = json.dumps({"email": USER_EMAIL, "password": PASSWORD}).encode()
        head = {"Content-Type": "application/json"}
        with opener.open(urllib.request.Request(f"{base}/api/session", body, head)) as answer:
            signed = json.load(answer)
        asked = (
            ("who is signed in (yardstick)", "/api/session"),
            ("comparison of the engagement", "/api/engagements/merrow-sound-ferries"),
            ("site with seven days", "/api/sites/skerry-road"),
            ("one call with its packets", "/api/calls/500"),
            ("report as HTML", "/api/sites/skerry-road/report.html"),
        )
        rows = [(name, *_time(opener, base + path)) for name, path in asked]
        return [*rows, ("report as PDF, from asking to ready", *_made(opener, base, signed["csrf"]))]
    finally:
        server.terminate()
        server.wait()


def _made(opener: urllib.request.OpenerDirector, base: str, csrf: str) -> tuple[float, float, float]:
    """One of each site: the same again would be ready at once."""
    times = []
    head = {"Content-Type": "application/json", "X-CSRF-Token": csrf}
    for slug in SITES_TO_PRINT:
        begun = time.perf_counter()
        asked = urllib.request.Request(f"{base}/api/sites/{slug}/report/pdf", b"{}", head)
        with opener.open(asked) as answer:
            document = json.load(answer)
        while document["state"] != "ready":
            time.sleep(0.05)
            with opener.open(f"{base}/api/documents/{document['id']}") as answer:
                document = json.load(answer)
        times.append(1000 * (time.perf_counter() - begun))
    return times[0], statistics.median(times), max(times)


def _time(opener: urllib.request.OpenerDirector, url: str) -> tuple[float, float, float]:
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        with opener.open(url) as answer:
            answer.read()
        times.append(1000 * (time.perf_counter() - begun))
    return times[0], statistics.median(times), max(times)
