"""One call or video stream on its page: what a request takes, and what is left to the clerk.

Yardstick: unpacking the columns of the record that is looked at, which no look can do without.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from benchmarks.analysis import ROUNDS, best
from tarnfell.clerk import loop
from tarnfell.core.columns import unpack_planes
from tarnfell.core.video import find_profile
from tarnfell.store.calls import call_by_id
from tarnfell.store.db import connect, writing
from tarnfell.store.videos import video_by_id
from tarnfell.wire.record import Record, join_parts
from tests.server.conftest import House, built_house
from tests.server.test_runs import taken

START_US = 1_790_000_000_000_000
PROFILE = "1080p30"
RUNS = (("five minutes", 300), ("ten minutes", 600), ("four hours", 4 * 3600))
STREAMS = (("30 seconds", 30), ("80 seconds", 80), ("one hour", 3600))


def report() -> str:
    with tempfile.TemporaryDirectory() as name:
        house = built_house(Path(name))
        calls = [row for words, seconds in RUNS for row in _call_rows(house, words, seconds)]
        streams = [_stream_row(house, words, seconds) for words, seconds in STREAMS]
    lines = [
        "## One call or video stream on its page",
        "",
        "Both ways, with queues and losses: a packet every 20 ms of a call, 350 a second of a 1080p stream. Of more "
        "packets than are judged in a request the page says so, and is there once the clerk has judged them; the "
        f"request is then what it takes to show it. Fastest of {ROUNDS}. × is of the yardstick: unpacking the columns "
        "of the record.",
        "",
        "| looked at | packets | by the clerk, ms | request, ms | both, × |",
        "|---|---:|---:|---:|---:|",
    ]
    for words, packets, unpacked_s, clerk_s, request_s in (*calls, *streams):
        clerk = f"{1000 * clerk_s:.0f}" if clerk_s else "–"
        times = (clerk_s + request_s) / unpacked_s
        lines.append(f"| {words} | {packets:,} | {clerk} | {1000 * request_s:.0f} | {times:.1f} |")
    return "\n".join(lines)


_Row = tuple[str, int, float, float, float]


def _call_rows(house: House, words: str, seconds: int) -> list[_Row]:
    run = taken(house, seconds=seconds, calls=1)
    _deliver(house, run, {"call": 1}, START_US + np.arange(seconds * 50) * 20_000)
    number = house.person.get(f"/api/runs/{run}/calls").get_json()["calls"][0]["id"]
    db = connect(house.folder)
    record = call_by_id(db, number).record
    return [
        _row(house, f"a call of {words}, {how}", f"/api/calls/{number}?{query}", record)
        for how, query in (("fixed buffer", "buffer_ms=60"), ("adaptive buffer", "buffer_ms=200&adaptive=true"))
    ]


def _stream_row(house: House, words: str, seconds: int) -> _Row:
    profile = find_profile(PROFILE)
    run = taken(house, seconds=seconds, calls=1, video=[{"profile": PROFILE, "streams": 1, "dscp": 34}])
    number = np.arange(profile.packets_in(seconds * profile.frames_per_s))
    frame = profile.frame_of(number)
    sent = START_US + frame * profile.frame_us + (number - np.searchsorted(frame, frame)) * 300
    _deliver(house, run, {"video": 1, "profile": PROFILE}, sent)
    stream = house.person.get(f"/api/runs/{run}").get_json()["streams"][0]["id"]
    record = video_by_id(connect(house.folder), stream).record
    return _row(house, f"a 1080p stream of {words}", f"/api/videos/{stream}", record)


def _deliver(house: House, run: int, about: dict[str, object], sent: NDArray[np.int64]) -> None:
    """One call or stream; with a call of a second beside a stream, without which there is no run."""
    parts = [Record({"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False})]
    if "video" in about:
        parts.append(_record({"call": 1}, sent[0] + np.arange(50) * 20_000))
    parts.append(_record(about, sent))
    answer = house.probe("PUT", f"/api/probe/jobs/{run}/record", data=join_parts(one.serialize() for one in parts))
    assert answer.status_code == 200, answer.text
    loop.judge(connect(house.folder), for_s=600)


def _record(about: dict[str, object], sent: NDArray[np.int64]) -> Record:
    chance = np.random.default_rng(7)
    columns: dict[str, list[int]] = {}
    for way in ("up", "down"):
        at_s = (sent - sent[0]) / 1e6
        queued = np.where(np.sin(at_s / 20) > 0.8, 90_000 * chance.random(len(sent)), 0)
        came = np.flatnonzero(chance.random(len(sent)) > 0.002)
        at = (sent + 20_000 + chance.gamma(1.2, 900, len(sent)) + queued).astype(np.int64)[came]
        order = np.argsort(at, kind="stable")
        columns |= {
            f"{way}.sent_us": sent.tolist(),
            f"{way}.arrival_seq": came[order].tolist(),
            f"{way}.arrival_us": at[order].tolist(),
            f"{way}.arrival_dscp": [46] * len(came),
        }
    side = {"ssrc": 5, "dscp_sent": 46}
    meta = {**about, "ptime_us": 20_000, "start_us": int(sent[0]), "bound": True, "up": side, "down": side}
    return Record.of(meta, columns)


def _row(house: House, words: str, path: str, record: Record) -> _Row:
    db = connect(house.folder)
    packets = sum(record.columns[f"{way}.sent_us"].count for way in ("up", "down"))
    unpacked_s = best(lambda: [unpack_planes(one.planes(), one.count) for one in record.columns.values()])
    first = house.person.get(path)
    clerk_s = 0.0
    if first.get_json()["awaited"]:
        begun = time.perf_counter()
        loop.answer(db)
        clerk_s = time.perf_counter() - begun
    request_s = best(lambda: house.person.get(path))
    assert house.person.get(path).get_json()["awaited"] is None
    with writing(db):
        db.execute("DELETE FROM task")
    return words, packets, unpacked_s, clerk_s, request_s
