"""Video and one-way media over real sockets: frames against the path's truth, and what flows when a way is silent."""

from __future__ import annotations

import json
import socket
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.picture import PictureCriterion, judge_picture
from tarnfell.core.rates import VideoLoad
from tarnfell.core.tracefile import parse_csv
from tarnfell.core.video import find_profile
from tarnfell.media import board as b
from tarnfell.media.board import Board
from tarnfell.media.receiver import Receiver, StreamReceiver
from tarnfell.media.sender import StreamSender, send_streams
from tarnfell.media.sockets import open_media_socket
from tarnfell.media.streams import FramePattern, StreamSpec
from tarnfell.probe.call import place_calls
from tarnfell.probe.connect import CallError
from tarnfell.probe.streams import streams_of
from tarnfell.wire import WireError
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fields import KindError, plain, read
from tarnfell.wire.rtp import RtpPacket
from tarnfell.work.placing.call_plan import call_plan
from tests import rig
from tests.media.test_parts import drain

PICTURES = StreamSpec(
    ssrc=9,
    payload_type=96,
    clock_hz=90_000,
    payload_bytes=500,
    ptime_us=40_000,
    packets=9,
    first_sequence=65_533,
    first_timestamp=2**32 - 3600,
    start_us=0,
    dscp=34,
    frames=FramePattern(refresh=(500, 500, 400), ordinary=(300,), every=4),
)
"""Frames of 3, 1, 1, 1 packets, then a refresh frame of 3."""


def plan(direction: str = "both", video: tuple[VideoLoad, ...] = (), calls: int = 1, seconds: float = 2) -> CallPlan:
    asked = call_plan(find_codec("g711a"), 20, calls, seconds, 46, direction, video)  # type: ignore[arg-type]
    return read(CallPlan, json.loads(json.dumps(plain(asked))))


# What is sent, packet by packet


def test_frames_are_spread_over_half_their_time_and_share_a_timestamp() -> None:
    due = [PICTURES.due(n) for n in range(9)]
    assert [d.after_us for d in due] == [0, 6666, 13333, 40_000, 80_000, 120_000, 160_000, 166_666, 173_333]
    assert [d.payload_bytes for d in due] == [500, 500, 400, 300, 300, 300, 500, 500, 400]
    assert [d.marker for d in due] == [False, False, True, True, True, True, False, False, True]
    assert [d.ticks for d in due] == [0, 0, 0, 3600, 7200, 10_800, 14_400, 14_400, 14_400]


def test_thirty_frames_a_second_do_not_drift_in_an_hour() -> None:
    profile = find_profile("720p30")
    (pictures,) = call_plan(find_codec("g711a"), 20, 1, 3600, 46, "both", [VideoLoad("720p30", 1)]).video
    spec = streams_of(plan(video=(VideoLoad("720p30", 1),), seconds=3600))[0][1]
    assert spec.packets == profile.packets_in(3600 * 30) == pictures.packets
    last = spec.due(spec.packets - 1)
    assert last.after_us == pytest.approx(3600 * 1e6 - 33_333 / 2, abs=40_000)
    # The timestamp runs with the planned instants themselves, not with a rounded step of its own.
    assert last.ticks / 90_000 * 1e6 == pytest.approx((3600 * 30 - 1) * 33_333, abs=12)


def test_rate_and_octets_count_every_size() -> None:
    assert PICTURES.octets(9) == 500 * 4 + 400 * 2 + 300 * 3
    assert PICTURES.rate_bps == (1400 + 900 + 6 * 40) * 8 * 1_000_000 // 160_000
    profile = find_profile("1080p30")
    spec = streams_of(plan(video=(VideoLoad("1080p30", 1),)))[0][1]
    packets_bps = profile.packets_per_s() * 40 * 8
    assert spec.rate_bps == pytest.approx(profile.kbps * 1000 + packets_bps, rel=0.01)


@pytest.mark.parametrize(
    ("frames", "words"),
    [
        ({"refresh": [], "ordinary": [300], "every": 4}, "1 to 400 packets"),
        ({"refresh": [300] * 401, "ordinary": [300], "every": 4}, "1 to 400 packets"),
        ({"refresh": [1401], "ordinary": [300], "every": 4}, "1 to 1400 bytes"),
        ({"refresh": [300], "ordinary": [True], "every": 4}, "1 to 1400 bytes"),
        ({"refresh": [300], "ordinary": [300], "every": 0}, "frames.every"),
        ({"refresh": [300], "ordinary": 7, "every": 4}, "must give refresh"),
        ("all of them", "must give refresh"),
    ],
)
def test_frames_nobody_should_be_asked_for_are_refused(frames: Any, words: str) -> None:
    assert StreamSpec.from_json(json.loads(json.dumps(PICTURES.as_json()))) == PICTURES
    with pytest.raises(WireError, match=words):
        StreamSpec.from_json({**PICTURES.as_json(), "frames": frames})


def test_a_plan_from_a_newer_server_gets_a_sentence() -> None:
    known = {"calls": 1, "packets": 5, "ptime_us": 20_000, "payload_type": 8, "clock_hz": 8000, "payload_bytes": 160}
    assert read(CallPlan, {**known, "dscp": 46}).direction == "both"
    for odd, words in (
        ({"smell": "of roses"}, "“smell”, which is not known"),
        ({"direction": "sideways"}, "none of both, up, down"),
        ({"video": [{"name": "x"}]}, "has no field “streams”"),
    ):
        with pytest.raises(KindError, match=words):
            read(CallPlan, {**known, "dscp": 46, **odd})


@pytest.fixture
def pair() -> Iterator[tuple[socket.socket, socket.socket]]:
    one = open_media_socket(socket.AF_INET, "127.0.0.1", 0, 34)
    two = open_media_socket(socket.AF_INET, "127.0.0.1", 0, 34)
    one.connect(two.getsockname())
    two.connect(one.getsockname())
    yield one, two
    one.close()
    two.close()


def test_on_the_wire_they_are_rtp_as_the_standard_has_it(pair: tuple[socket.socket, socket.socket]) -> None:
    board, sender = Board(1), StreamSender(0, pair[0], PICTURES)
    send_streams(board, [sender], time.monotonic_ns())
    packets = [RtpPacket.parse(arrival.data) for arrival in drain(pair[1])]
    assert [p.sequence_number for p in packets] == [65_533, 65_534, 65_535, 0, 1, 2, 3, 4, 5]
    assert [p.marker for p in packets] == [False, False, True, True, True, True, False, False, True]
    assert [p.timestamp for p in packets] == [2**32 - 3600] * 3 + [0, 3600, 7200] + [10_800] * 3
    assert [len(p.payload) for p in packets] == [500, 500, 400, 300, 300, 300, 500, 500, 400]
    assert {p.payload_type for p in packets} == {96}


def test_the_live_view_counts_against_each_packets_own_instant(pair: tuple[socket.socket, socket.socket]) -> None:
    """A refresh frame's packets are due at different instants; punctual ones are not late for it."""
    for _ in range(10):
        board = Board(1)
        stream = Receiver(board, [StreamReceiver(0, pair[1], PICTURES, own_ssrc=1)])
        send_streams(board, [StreamSender(0, pair[0], PICTURES)], time.monotonic_ns())
        stream.poll()
        stream.close()
        _, received, reached, late, jitter_us, *_ = board.call(0)
        assert (received, reached) == (9, 9)
        # A machine that stood still in those 100 ms made packets truly late; one fixed interval would each time.
        if late == 0:
            break
    assert late == 0
    # Kernel stamps against planned instants: far below the 33 ms that one fixed interval would make of it.
    assert jitter_us < 20_000


# Real processes


def test_frames_agree_with_recorded_truth(tmp_path: Path) -> None:
    """Each packet the path dropped breaks its frame, and no frame is broken that was whole and punctual."""
    far, listen = rig.own_address(), rig.own_address()
    faults = {"seed": 5, "up": {"delay_ms": 10, "loss_pct": 1.5}, "down": {"delay_ms": 15}}
    with rig.far_end(tmp_path, far):
        with rig.path(tmp_path, listen, far, faults) as truth_file:
            done = rig.cli(
                "call", listen, "--calls", "1", "--seconds", "4", "--video", "360p", "--video", "screen:2", "--json",
                "--key-file", str(tmp_path / "key"), "--trace-dir", str(tmp_path),
            )  # fmt: skip
        truth = rig.read_truth(truth_file)
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert [(v["video"], v["profile"]) for v in report["video"]] == [(1, "360p"), (2, "screen"), (3, "screen")]
    lost_in_all = 0
    for row in report["video"]:
        profile = find_profile(row["profile"])
        frames = 4 * profile.frames_per_s
        for way in ("up", "down"):
            side, told = row[way], truth[way, row[way]["ssrc"]]
            assert side["sent"] == profile.packets_in(frames)
            assert side["lost"] == told.fates["lost"]
            assert side["frames"] == frames
            trace = parse_csv((tmp_path / f"video{row['video']}-{way}.csv").read_text())
            dropped = set(range(side["sent"])) - set(told.hold_us)
            assert set(np.flatnonzero(~trace.arrived).tolist()) == dropped
            # Where nothing is too late, only what the path dropped breaks frames.
            punctual = replace(trace, recv_us=np.where(trace.arrived, trace.sent_us + 15_000, trace.recv_us))
            patient = judge_picture(punctual, profile, PictureCriterion(buffer_ms=1000))
            broken = set(profile.frame_of(np.array(sorted(dropped), np.int64)).tolist())
            assert patient.frames - patient.whole == len(broken)
            assert patient.shown <= patient.whole
            assert side["whole"] <= patient.whole
            assert side["dscp_sent"] == 34
            assert side["dscp_received"] == {"34": side["received"]}
            lost_in_all += side["lost"]
            if way == "down":
                assert side["lost"] == 0
    assert lost_in_all > 0


@pytest.mark.parametrize("way", ["up", "down"])
def test_one_way_means_one_way(tmp_path: Path, way: str) -> None:
    """Nothing but reports comes back; time stamps and the record of that way are whole."""
    far, listen = rig.own_address(), rig.own_address()
    faults = {"seed": 5, "up": {"delay_ms": 12}, "down": {"delay_ms": 12}}
    with rig.far_end(tmp_path, far):
        with rig.path(tmp_path, listen, far, faults) as truth_file:
            done = rig.cli(
                "call", listen, "--calls", "2", "--seconds", "3", "--direction", way, "--video", "thumbnail", "--json",
                "--key-file", str(tmp_path / "key"),
            )  # fmt: skip
        truth = rig.read_truth(truth_file)
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    other = {"up": "down", "down": "up"}[way]
    ssrcs = set()
    for row in report["calls"]:
        assert other not in row
        assert (row[way]["sent"], row[way]["lost"]) == (150, 0)
        assert row["rtt_ms"]["min"] >= 24
        ssrcs.add(row[way]["ssrc"])
    (video,) = report["video"]
    assert video["directions"] == [way]
    assert video[way]["frames"] == 45
    media = {d for d, ssrc in truth if ssrc in ssrcs | {video[way]["ssrc"]}}
    assert media == {way}


def test_a_far_end_is_not_asked_for_nothing(tmp_path: Path) -> None:
    nothing = CallPlan(**{**vars(plan()), "packets": 0})
    far = rig.own_address()
    with rig.far_end(tmp_path, far), pytest.raises(CallError, match="sends nothing in either direction"):
        place_calls(far, 0, rig.KEY.encode(), nothing)


def test_who_only_listens_sends_receiver_reports(pair: tuple[socket.socket, socket.socket]) -> None:
    """RFC 3550 §6.4.2, and RTCP's type 201 is told from a sender's 200."""
    board = Board(1)
    receiver = Receiver(board, [StreamReceiver(0, pair[1], PICTURES, own_ssrc=77)])
    send_streams(board, [StreamSender(0, pair[0], PICTURES)], time.monotonic_ns())
    receiver.poll()
    receiver._rtcp_due[0] = receiver._rtcp_next = 0
    receiver.poll()
    receiver.close()
    (report,) = [a.data for a in drain(pair[0]) if len(a.data) < 200]
    assert report[1] == 201
    assert int.from_bytes(report[4:8], "big") == 77
    assert int.from_bytes(report[8:12], "big") == PICTURES.ssrc
    assert board.cells[Board.at(0, b.RECEIVED)] == 9
