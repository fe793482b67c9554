"""Video streams under a change: carried anew where their queue is mended, and left with the reason where not."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from tarnfell.core.causes import LegName
from tarnfell.core.trace import Trace
from tarnfell.core.verdict.facts import VideoFact
from tarnfell.core.video import find_profile
from tarnfell.core.whatif.change import Change
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect, writing
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.whatif import trial
from tarnfell.work.whatif.pictures import ReplayedVideo, replayed_video
from tests.core.whatif.outlet import pictures, through
from tests.server.conftest import House
from tests.server.test_runs import deliver, taken
from tests.server.test_what_if import START_US, pier, told_on, tried
from tests.work.test_evidence import all_day

PROFILE = find_profile("360p")
SECONDS = 30


def came(up: Trace, down: Trace, streams: int) -> bytes:
    """A run of video alone, whose streams came so."""
    columns: dict[str, list[int]] = {}
    for name, trace in (("up", up), ("down", down)):
        order = trace.arrival_order
        columns |= {
            f"{name}.sent_us": (trace.sent_us + START_US).tolist(),
            f"{name}.arrival_seq": trace.seq[order].tolist(),
            f"{name}.arrival_us": (trace.recv_us[order] + START_US).tolist(),
            f"{name}.arrival_dscp": [34] * len(order),
        }
    about = {"ssrc": 1, "dscp_sent": 34}
    meta = {
        "profile": PROFILE.name,
        "direction": "both",
        "start_us": START_US,
        "bound": True,
        "up": about,
        "down": about,
    }
    head = Record({"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False})
    call_us = [START_US + 20_000 * n for n in range(SECONDS * 50)]
    call = Record.of(
        {"call": 1, "ptime_us": 20_000, "start_us": START_US, "bound": True, "up": about, "down": about},
        {
            f"{way}.{name}": values
            for way in ("up", "down")
            for name, values in (
                ("sent_us", call_us), ("arrival_seq", list(range(len(call_us)))),
                ("arrival_us", [at + 20_000 for at in call_us]), ("arrival_dscp", [46] * len(call_us)),
            )
        },
    )  # fmt: skip
    parts = [Record.of({"video": number, **meta}, columns) for number in range(1, streams + 1)]
    return join_parts(one.serialize() for one in (head, call, *parts))


@pytest.fixture
def queued(house: House, request: pytest.FixtureRequest) -> House:
    """A stream, or so many, whose upload met a queue that others filled."""
    streams = getattr(request, "param", 1)
    all_day(house)
    video = [{"profile": PROFILE.name, "streams": streams, "dscp": 34}]
    run_id = taken(house, calls=1, seconds=SECONDS, video=video)
    calm = through(pictures(1, 0.2, PROFILE))
    assert deliver(house, run_id, came(through(pictures(1, 1.4, PROFILE)), calm, streams)).json == {"state": "done"}
    return house


def carried(house: House, **change: Any) -> tuple[list[VideoFact], ReplayedVideo]:
    db, asked = connect(house.folder), Change(**change)
    site = trial.changed_site(pier(house), asked)
    facts = trial.facts_of(db, site).video
    return facts, replayed_video(db, site, asked, facts, [])


@pytest.mark.parametrize(
    ("leg", "change", "least", "best"),
    [
        ("line", {"first_up": True}, True, True),
        ("line", {"line_up": 4.0}, True, True),
        ("line", {"first_down": True}, False, False),
        ("inside", {"first_inside": True}, True, True),
        ("inside", {"first_up": True}, False, False),
        ("unknown", {"first_up": True}, False, True),
    ],
)
def test_only_the_queue_of_its_leg_and_direction_is_mended(
    queued: House, monkeypatch: pytest.MonkeyPatch, leg: LegName, change: dict[str, Any], least: bool, best: bool
) -> None:
    told_on(monkeypatch, leg)
    facts, found = carried(queued, **change)
    before, low, high = (
        {one.direction: one.score or 0.0 for one in each} for each in (facts, found.at_least, found.at_best)
    )
    assert before["up"] < 2 < 4.9 < before["down"]
    # At least: one stream has lost too little elsewhere to be sure that every loss was the queue's.
    assert (3.5 < low["up"] < 4.5, high["up"] > 4.9) == (least, best)
    assert low["down"] == high["down"] == before["down"]
    assert found.tally.judged == (1 if best else 0)
    (up,) = [one for one in found.at_best if one.direction == "up"]
    assert (up.frames, up.seconds) == (SECONDS * PROFILE.frames_per_s, SECONDS)
    if best:
        assert (up.freezes, up.late, up.lost, up.whole) == (0, 0, 0, up.frames)


def test_what_was_done_is_said_beside_the_calls(queued: House, monkeypatch: pytest.MonkeyPatch) -> None:
    told_on(monkeypatch, "line")
    said = tried(queued, first_up=True)["cautions"]
    assert "1 of 2 video directions were judged again from their packets." in said
    assert "1 video direction met a queue on the line, which this change removes." in said
    assert any("What packets of one video frame wait for each other is left as it was" in one for one in said)
    assert not any("stand" in one and "not played again" in one for one in said)
    # A codec for calls says nothing of video.
    assert not any("video" in one for one in tried(queued, codec="g729")["cautions"])


@pytest.mark.parametrize("queued", [3], indirect=True)
def test_streams_that_fill_the_line_by_themselves_are_not_helped_by_going_first(
    queued: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    told_on(monkeypatch, "line")
    with writing(connect(queued.folder)) as db:
        db.execute("UPDATE site SET up_kbps = 2000 WHERE slug = 'pier'")  # 3 × 600 are nine tenths of it
    facts, found = carried(queued, first_up=True)
    assert (found.crowded, found.tally.judged) == (3, 0)
    assert found.at_best == facts
    said = tried(queued, first_up=True)["cautions"]
    assert any(one.startswith("3 video directions: the streams alone fill the line") for one in said)
    # A faster line takes them.
    assert carried(queued, line_up=4.0)[1].crowded == 0
    with writing(connect(queued.folder)) as db:
        db.execute("UPDATE site SET up_kbps = 2001 WHERE slug = 'pier'")
    assert carried(queued, first_up=True)[1].crowded == 0


def test_a_stream_that_nobody_can_judge_stays_as_it_was(queued: House, monkeypatch: pytest.MonkeyPatch) -> None:
    told_on(monkeypatch, "line")
    facts, _ = carried(queued, first_up=True)
    db, site = connect(queued.folder), site_store.sites_of(connect(queued.folder), 1)[0]
    unknown = [replace(one, score=None) for one in facts]
    found = replayed_video(db, site, Change(first_up=True), unknown, [])
    assert (found.at_least, found.tally.left) == (unknown, 1)


def test_a_viewer_is_shown_frame_by_frame_what_media_first_would_bring(queued: House) -> None:
    (stream,) = connect(queued.folder).execute("SELECT id FROM video_stream").fetchone()
    page = queued.person.get(f"/api/videos/{stream}").json
    strip = page["up"]["strip"]
    assert len(strip["came"]) == len(strip["media_first"]) == 12 * PROFILE.frames_per_s
    assert strip["came"].count("s") < 200
    assert set(strip["media_first"]) == {"s"}
    assert page["down"]["strip"] == {"first": 0, "came": "s" * 300, "media_first": None}
