"""Video beside calls and one-way runs through the server: asked for, judged, shown, counted, exported."""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np
import pytest

from tarnfell.core.video import find_profile
from tarnfell.exchange.capture import find_streams
from tarnfell.store.db import connect, writing
from tarnfell.wire.record import Record, join_parts, split_parts
from tests.server.conftest import House
from tests.server.test_runs import deliver, progress, taken

VIDEO = [{"profile": "360p", "streams": 2, "dscp": 34}]
START = 1_790_000_000_000_000


def sent_record(
    about: dict[str, Any], sent: list[int], ways: dict[str, tuple[int, ...]], dscp: int, direction: str
) -> Record:
    columns: dict[str, list[int]] = {}
    for way, lost in ways.items():
        arrived = [i for i in range(len(sent)) if i not in lost]
        columns |= {
            f"{way}.sent_us": sent,
            f"{way}.arrival_seq": arrived,
            f"{way}.arrival_us": [sent[i] + 20_000 for i in arrived],
            f"{way}.arrival_dscp": [dscp] * len(arrived),
        }
    side = {"ssrc": 5, "dscp_sent": dscp}
    meta = {**about, "direction": direction, "start_us": START, "bound": True, "up": side, "down": side}
    return Record.of(meta, columns)


def upload(
    calls: int = 2,
    streams: int = 2,
    seconds: int = 4,
    lost_up: tuple[int, ...] = (),
    direction: str = "both",
    tainted: bool = False,
    packets: int | None = None,
) -> bytes:
    """A run with video; ``lost_up`` packets of stream 1 never arrive up the line. Streams end after so many packets."""
    profile = find_profile("360p")
    number = np.arange(profile.packets_in(seconds * profile.frames_per_s))
    frame = profile.frame_of(number)
    pictures = (START + frame * profile.frame_us + (number - np.searchsorted(frame, frame)) * 500).tolist()[:packets]
    sound = [START + i * 20_000 for i in range(seconds * 50)]
    ways = {way: () for way in ("up", "down") if direction in ("both", way)}
    head = Record({"shared": True, "self_check": {"tainted": tainted, "reasons": []}, "stopped": False})
    parts = [head]
    parts += [sent_record({"call": n}, sound, ways, 46, direction) for n in range(1, calls + 1)]
    for n in range(1, streams + 1):
        lost = {**ways, **({"up": lost_up} if n == 1 and "up" in ways else {})}
        parts.append(sent_record({"video": n, "profile": "360p"}, pictures, lost, 34, direction))
    return join_parts(part.serialize() for part in parts)


def test_the_probe_is_told_frames_and_the_result_tells_pictures(house: House) -> None:
    house.heartbeat()
    run_id = house.place(seconds=4, video=VIDEO).json["id"]
    plan = house.heartbeat()["plan"]  # type: ignore[index]
    (video,) = plan["video"]
    profile = find_profile("360p")
    assert (video["name"], video["streams"], video["dscp"], video["frame_us"]) == ("360p", 2, 34, 40_000)
    assert video["packets"] == profile.packets_in(100)
    assert (video["refresh"], video["ordinary"]) == profile.cut()

    second = progress(1, 50)
    refused = house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=second)
    assert refused.status_code == 422
    assert "2 video streams" in refused.json["detail"]
    flow = {"sent": 60, "received": 50, "reached": 55, "late": 1, "jitter_us": 9, "pdv_us": 9}
    told = {**second, "video_up": [flow, flow], "video_down": [flow, flow]}
    assert house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=told).json == {"stop": False}
    live = house.person.get(f"/api/runs/{run_id}/live").json["seconds"][0]
    assert live["video_up"] == {"rate": 100, "received": 100, "missing": 10, "late": 2}

    lost = profile.packets_in(30)
    assert deliver(house, run_id, upload(lost_up=(lost,))).json == {"state": "done"}
    page = house.person.get(f"/api/runs/{run_id}").json
    assert [(s["number"], s["good"], s["up"]["whole"], s["down"]["whole"]) for s in page["streams"]] == [
        (1, False, 99, 100),
        (2, True, 100, 100),
    ]
    assert page["streams"][0]["up"]["frames"] == 100
    assert page["good"] == 2
    assert page["video"] == [{"profile": "360p", "title": "360p at 25", "streams": 2, "dscp": 34}]

    stream = page["streams"][0]["id"]
    one = house.person.get(f"/api/videos/{stream}").json
    assert one["up"]["figures"]["score"] == page["streams"][0]["up"]["score"]
    assert one["up"]["why"].startswith("1 of 100 frames were broken, by 1 lost packet")
    assert one["down"]["why"] == "Every frame came whole and in time."
    assert [s["broken"] for s in one["up"]["stretches"]] == [0, 1, 0, 0]
    assert (one["up"]["seconds"], one["up"]["stretch_s"], one["awaited"]) == (4, 1, None)
    # Frame by frame: one was broken, and what came before the refresh that was asked for built on it.
    strip = one["up"]["strip"]
    assert (strip["first"], len(strip["came"]), strip["media_first"]) == (0, 100, None)
    built = strip["came"].count("o")
    assert strip["came"] == "s" * 30 + "b" + "o" * built + "s" * (69 - built)
    assert built == page["streams"][0]["up"]["whole"] - page["streams"][0]["up"]["shown"] > 0
    assert one["down"]["strip"]["came"] == "s" * 100
    slow = house.person.get(f"/api/videos/{stream}?refresh=interval").json
    assert slow["up"]["strip"]["came"] == "s" * 30 + "b" + "o" * 69
    assert slow["up"]["figures"]["shown"] == 30
    assert slow["up"]["figures"]["freezes"] == 1
    assert slow["up"]["figures"]["score"] < 1.2
    rows = house.person.get(f"/api/videos/{stream}/up.csv").text.splitlines()
    assert len(rows) == 1 + profile.packets_in(100)
    assert rows[lost + 1].split(",")[2] == ""


def test_a_probe_of_before_is_told_of_plain_calls_as_ever(house: House) -> None:
    house.heartbeat()
    house.place()
    job = house.heartbeat()
    assert job is not None
    assert set(job["plan"]) == {
        "calls", "packets", "ptime_us", "payload_type", "clock_hz", "payload_bytes", "dscp",
    }  # fmt: skip


def test_a_record_without_its_video_is_turned_away_whole(house: House) -> None:
    run_id = taken(house, seconds=4, video=VIDEO)
    answer = deliver(house, run_id, upload(streams=1))
    assert answer.status_code == 422
    assert "2 calls and 2 video streams" in answer.json["detail"]
    halves = split_parts(upload())
    twice = join_parts([*halves[:-1], halves[-2]])
    assert "twice" in deliver(house, run_id, twice).json["detail"]
    strange = upload().replace(b'"360p"', b'"999p"')
    assert "no video profile" in deliver(house, run_id, strange).json["detail"]
    db = connect(house.folder)
    assert db.execute("SELECT count(*) FROM video_stream").fetchone()[0] == 0
    assert deliver(house, run_id, upload()).status_code == 200


@pytest.mark.parametrize(
    ("video", "words"),
    [
        ([{"profile": "8k", "streams": 1}], "no video profile"),
        ([{"profile": "360p", "streams": 99}], "one probe places up to 100"),
        ([{"profile": "1080p30", "streams": 40}], "Mbit/s each way"),
        ([{"profile": "720p30", "streams": 6}], "beyond this site's ceiling"),
    ],
)
def test_video_that_cannot_be_placed_gets_a_sentence(house: House, video: list[dict[str, Any]], words: str) -> None:
    house.heartbeat()
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET ceiling_pct = 80")
    answer = house.place(video=video)
    assert answer.status_code in (409, 422)
    assert words in answer.json["detail"]


def with_video_in_the_brief(house: House) -> None:
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET video = ?", (json.dumps([{"profile": "360p", "streams": 2}]),))
    db.close()


def dimension(house: House, key: str) -> dict[str, Any]:
    return next(d for d in house.person.get("/api/sites/pier").json["dimensions"] if d["dimension"] == key)


def test_video_counts_where_the_brief_asks_for_it(house: House) -> None:
    run_id = taken(house, seconds=4, video=VIDEO)
    deliver(house, run_id, upload(lost_up=tuple(range(0, 250, 3))))
    plain = house.person.get("/api/sites/pier").json
    assert "video" not in [d["dimension"] for d in plain["dimensions"]]
    with_video_in_the_brief(house)
    site = house.person.get("/api/sites/pier").json
    assert {d["dimension"]: d["weight"] for d in site["dimensions"]} == {
        "voice": 20, "video": 15, "capacity": 20, "steadiness": 15, "load": 15, "reachability": 10, "marking": 5,
    }  # fmt: skip
    video = dimension(house, "video")
    assert (video["low"], video["high"]) == (0, 100)
    assert "1 of 2 video streams" in video["says"]
    cause = next(c for c in site["causes"] if c["key"] == "pictures-break")
    assert (cause["calls_hit"], cause["calls"], cause["of"]) == (1, 2, "video streams")
    assert cause["direction"] == "up"
    assert len(cause["stream_ids"]) == 1


def test_video_asked_for_and_not_measured_is_open(house: House) -> None:
    with_video_in_the_brief(house)
    deliver(house, taken(house, seconds=4), upload(streams=0))
    (video,) = [r for r in house.person.get("/api/sites/pier").json["requirements"] if r["key"] == "video"]
    assert (video["state"], video["stops"], video["says"]) == ("open", True, "No video stream counts yet.")


def test_tainted_video_is_left_out(house: House) -> None:
    with_video_in_the_brief(house)
    run_id = taken(house, seconds=4, video=VIDEO)
    deliver(house, run_id, upload(lost_up=tuple(range(0, 250, 3)), tainted=True))
    deliver(house, taken(house, seconds=4), upload(streams=0))
    video = dimension(house, "video")
    assert (video["low"], video["high"]) == (0, 100)
    assert not [c for c in house.person.get("/api/sites/pier").json["causes"] if c["of"] == "video streams"]


def test_a_one_way_run_tells_of_its_way_and_is_no_call(house: House) -> None:
    run_id = taken(house, seconds=4, direction="up", video=VIDEO)
    deliver(house, run_id, upload(direction="up", lost_up=(3,)))
    page = house.person.get(f"/api/runs/{run_id}").json
    assert page["down"] is None
    assert page["up"]["sent"] == 400
    assert page["flow_words"] == "up only"
    assert [s["down"] for s in page["streams"]] == [None, None]
    calls = house.person.get(f"/api/runs/{run_id}/calls?sort=mos&only=lossy").json
    assert calls["total"] == 0
    (line, _) = house.person.get(f"/api/runs/{run_id}/calls").json["calls"]
    assert line["down"] is None
    one = house.person.get(f"/api/calls/{line['id']}").json
    assert one["down"] is None
    assert one["up"]["figures"]["mos"] > 4.3
    rows = house.person.get(f"/api/runs/{run_id}/calls.csv").text.splitlines()
    assert len(rows) == 3
    site = house.person.get("/api/sites/pier").json
    assert site["evidence"]["calls"] == 0
    assert site["runs"][0]["load"] == "2 × 360p at 25, up only"


def test_a_capture_of_the_run_holds_its_video(house: House) -> None:
    run_id = taken(house, seconds=4, video=VIDEO)
    deliver(house, run_id, upload(lost_up=(10, 11)))
    found = find_streams(io.BytesIO(house.document(f"/api/runs/{run_id}/capture").data))
    by_type = sorted((s.payload_type, len(s.trace)) for s in found.streams)
    count = find_profile("360p").packets_in(100)
    assert by_type == [(8, 200)] * 4 + [(96, count)] * 4
    assert sorted(int((~s.trace.arrived).sum()) for s in found.streams if s.payload_type == 96) == [0, 0, 0, 2]


def test_nothing_is_there(house: House) -> None:
    for path in ("/api/videos/7", "/api/videos/99999999999999999999", "/api/videos/7/up.csv"):
        assert house.person.get(path).status_code == 404
    run_id = taken(house, seconds=4, direction="down", video=VIDEO)
    deliver(house, run_id, upload(direction="down"))
    stream = house.person.get(f"/api/runs/{run_id}").json["streams"][0]["id"]
    assert house.person.get(f"/api/videos/{stream}/up.csv").status_code == 404
    assert house.person.get(f"/api/videos/{stream}/sideways.csv").status_code == 404
    assert house.person.get(f"/api/videos/{stream}?buffer_ms=-1").status_code == 422


def test_two_runs_with_video_are_compared_by_their_pictures(house: House) -> None:
    numbers = []
    for lost in ((), tuple(range(100, 140))):
        run_id = taken(house, seconds=4, video=VIDEO)
        deliver(house, run_id, upload(lost_up=lost))
        numbers.append(run_id)
    plain = taken(house, seconds=4, direction="up")
    deliver(house, plain, upload(streams=0, direction="up"))

    page = house.person.get(f"/api/compare?first={numbers[0]}&second={numbers[1]}").json
    assert page["differs"] == []
    up = next(m for m in page["up"] if m["key"] == "score")
    assert (len(up["first_values"]), up["first_values"][0]) == (2, 5.0)
    assert up["difference"]["change"] < 0
    assert next(m for m in page["down"] if m["key"] == "score")["difference"]["change"] == 0
    assert next(m for m in page["up"] if m["key"] == "frozen_ms")["second_values"][0] > 0

    page = house.person.get(f"/api/compare?first={numbers[0]}&second={plain}").json
    assert page["differs"] == ["media flows both ways and up only", "video 2 × 360p at 25 and none"]
    assert not [m for m in page["up"] if m["key"] == "score"]
    assert all(m["second_values"] == [] for m in page["down"])


# Plans with video, or one way


def check(house: House, **changes: Any) -> dict[str, Any]:
    plan = {"probe_id": 1, "far_end_id": 1, "codec": "g711a", "calls": 2, "call_s": 60, **changes}
    found = house.post("/api/sites/pier/plans/check", plan).json
    return {**found, **found["takes"]}


def ceiling(house: House, pct: float) -> None:
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET ceiling_pct = ?", (pct,))
    db.close()


def test_video_takes_its_room_under_the_ceiling(house: House) -> None:
    house.heartbeat()
    ceiling(house, 20)  # 2 Mbit/s of 10: two streams take 1.31, each call 84 kbit/s
    assert check(house, calls=23)["problems"] == []
    found = check(house, calls=23, video=VIDEO)
    (problem,) = found["problems"]
    assert "room for 8 beside the video" in problem["words"]
    assert check(house, **problem["fix"])["problems"] == []
    assert problem["fix"]["calls"] == found["ceiling_calls"] == 8
    (problem,) = check(house, video=[{"profile": "720p30", "streams": 2}])["problems"]
    assert "The video alone is beyond" in problem["words"]
    assert problem["fix_words"] == "place the calls without video"
    assert check(house, **problem["fix"])["problems"] == []


def test_one_way_takes_only_its_way(house: House) -> None:
    house.heartbeat()
    both, up = check(house), check(house, direction="up")
    assert (up["share_up_pct"], up["share_down_pct"]) == (both["share_up_pct"], None)
    assert up["packets"] * 2 == both["packets"]
    assert any("is no evidence of whole calls" in remark for remark in up["remarks"])
    ceiling(house, 5)  # 500 kbit/s up, 2500 down
    assert check(house, calls=9)["ceiling_calls"] == 5
    assert check(house, calls=9, direction="down")["ceiling_calls"] == 29
    assert check(house, calls=9, direction="down")["problems"] == []


def test_a_plan_with_video_is_carried_out_and_its_steps_tell_the_streams(house: House) -> None:
    house.heartbeat()
    plan = {"probe_id": 1, "far_end_id": 1, "codec": "g711a", "calls": 2, "call_s": 4, "when": "now", "video": VIDEO}
    made = house.post("/api/sites/pier/plans", plan).json
    job = house.heartbeat()
    assert job is not None
    assert job["plan"]["video"][0]["streams"] == 2
    deliver(house, job["id"], upload(lost_up=tuple(range(0, 250, 3))))
    page = house.person.get(f"/api/series/{made['series_id']}").json
    assert page["load"] == "2 calls held, 4 s each, beside 2 × 360p at 25"
    assert (page["steps"][0]["good"], page["steps"][0]["streams"], page["steps"][0]["good_streams"]) == (2, 2, 1)
    for bad in ([{"profile": "8k", "streams": 1}], [{"profile": "360p", "streams": 0}]):
        assert house.post("/api/sites/pier/plans", {**plan, "video": bad}).status_code == 422


def test_a_brief_with_video_says_when_a_plan_leaves_it_out(house: House) -> None:
    house.heartbeat()
    with_video_in_the_brief(house)
    assert "The brief asks for video; this places none." in check(house)["remarks"]
    assert not [r for r in check(house, video=VIDEO)["remarks"] if "brief asks" in r]
