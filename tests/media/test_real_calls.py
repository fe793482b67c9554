"""Real processes over real sockets: what Tarnfell measured against what the path's truth log says."""

from __future__ import annotations

import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for
from tarnfell.core.tracefile import parse_csv
from tarnfell.probe import call as probing
from tarnfell.probe.call import RunResult, place_calls
from tarnfell.probe.connect import CallError
from tarnfell.probe.works.calls import pack_run
from tarnfell.wire.kinds.calls import CallPlan, LiveSecond
from tarnfell.wire.record import Record, split_parts
from tarnfell.work.ingest.packets import clock_relation, half_of, judge_record
from tarnfell.work.ingest.uploads import cut_of
from tests import rig

PLAN = CallPlan(calls=2, packets=100, ptime_us=20_000, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=46)
FAULTS = {
    "seed": 11,
    "up": {"delay_ms": 12, "spread_ms": 4, "loss_pct": 3, "rate_kbps": 1500, "queue_ms": 150, "duplicate_pct": 2},
    "down": {
        "delay_ms": 18,
        "burst_enter_pct": 2,
        "burst_leave_pct": 30,
        "reorder_pct": 3,
        "reorder_ms": 45,
        "dscp": 0,
    },
}


def key_file(folder: Path) -> str:
    return str(folder / "key")


def test_call_agrees_with_recorded_truth(tmp_path: Path) -> None:
    """Loss exact; every packet's delay at least what the path held it, and little more."""
    far, listen = rig.own_address(), rig.own_address()
    with rig.far_end(tmp_path, far):
        with rig.path(tmp_path, listen, far, FAULTS) as truth_file:
            done = rig.cli(
                "call", listen, "--codec", "g711u", "--calls", "3", "--seconds", "5", "--dscp", "46", "--json",
                "--key-file", key_file(tmp_path), "--trace-dir", str(tmp_path / "traces"),
            )  # fmt: skip
        truth = rig.read_truth(truth_file)
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert len(report["calls"]) == 3
    for call in report["calls"]:
        assert call["clock"] == {"kind": "shared", "uncertainty_ms": 0.0, "offset_ms": 0.0, "skew_ppm": 0.0}
        assert call["rtt_ms"]["min"] >= 30
        for direction in ("up", "down"):
            row, told = call[direction], truth[direction, call[direction]["ssrc"]]
            missing = 250 - len(told.hold_us)
            assert row["sent"] == 250
            assert row["lost"] == missing
            assert row["duplicates"] == told.copies
            assert row["dscp_sent"] == 46
            wanted = {"46"} if direction == "up" else {"0"}
            assert set(row["dscp_received"]) == wanted
            trace = parse_csv((tmp_path / "traces" / f"call{call['call']}-{direction}.csv").read_text())
            delay = {int(trace.seq[i]): int(trace.recv_us[i] - trace.sent_us[i]) for i in np.flatnonzero(trace.arrived)}
            # A copy may overtake its original; the first to arrive counts.
            both = [s for s in told.hold_us if s in delay]
            beyond = np.array([delay[s] - told.hold_us[s] for s in both])
            assert len(both) == 250 - missing
            if told.copies == 0:
                assert beyond.min() >= -2
            assert np.median(beyond) < 2000
            expected_floor = min(told.hold_us.values()) / 1000
            assert row["delay_min_ms"] == pytest.approx(expected_floor, abs=3)
    check = report["self_check"]
    assert check["probe"]["not_sent"] == check["far_end"]["not_sent"] == 0
    assert check["probe"]["receive_queue_drops"] == check["far_end"]["receive_queue_drops"] == 0


def test_schedule_is_absolute(tmp_path: Path) -> None:
    """However late single packets leave, the last one's planned instant is where the first one's says."""
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        result = place_calls(far, 0, rig.KEY.encode(), PLAN)
    assert len(result.calls) == 2
    for record in result.calls:
        for direction in ("up", "down"):
            sent = np.array(record.values(f"{direction}.sent_us"))
            # Free of drift: the quickest of early and of late packets keep the same distance to the plan.
            ahead = sent - np.arange(len(sent)) * 20_000
            assert abs(int(ahead[:50].min()) - int(ahead[50:].min())) < 1500
            assert len(sent) == 100
            if direction == "up":  # calls begin within one interval of the start that is told
                assert -1_000 < int(ahead.min()) - record.meta["start_us"] < 100_000
    assert result.clock.meta["shared"] is True
    assert len(result.clock.values("t1_ns")) > 20


def test_closed_media_ports_are_told_by_call(tmp_path: Path) -> None:
    far, listen = rig.own_address(), rig.own_address()
    blocked = {"up": {"blocked_ports": [[22001, 22001]]}}
    with rig.far_end(tmp_path, far), rig.path(tmp_path, listen, far, blocked):
        done = rig.cli("call", listen, "--calls", "2", "--seconds", "2", "--json", "--key-file", key_file(tmp_path))
    assert done.returncode == 1
    first, second = json.loads(done.stdout)["calls"]
    assert first["up"]["lost"] == first["down"]["lost"] == 0
    assert second["up"]["received"] == 0
    assert second["up"]["mos"] is None
    assert second["up"]["reason"] == "Nothing arrived."
    assert "did not answer before the run" in second["down"]["reason"]


def test_one_way_silence_is_told(tmp_path: Path) -> None:
    """Media that flows until the run starts and then only one way: counted as lost, not as an error."""
    far, listen = rig.own_address(), rig.own_address()
    with rig.far_end(tmp_path, far), rig.path(tmp_path, listen, far, {"down": {"loss_pct": 60}}):
        done = rig.cli("call", listen, "--seconds", "3", "--json", "--key-file", key_file(tmp_path))
    call = json.loads(done.stdout)["calls"][0]
    assert call["up"]["lost"] == 0
    assert 40 < call["down"]["loss_pct"] < 80


def test_stop_ends_the_calls_and_keeps_what_was_measured(tmp_path: Path) -> None:
    far = rig.own_address()
    long = CallPlan(**{**PLAN.__dict__, "packets": 3000})
    seen: list[LiveSecond] = []

    def watch(live: LiveSecond) -> bool:
        seen.append(live)
        return live.second < 2

    with rig.far_end(tmp_path, far):
        result = place_calls(far, 0, rig.KEY.encode(), long, watch)
    assert result.stopped
    assert seen[-1].up[0].received > 0
    assert seen[-1].rtt_us is not None
    for record in result.calls:
        assert 50 < record.columns["up.sent_us"].count < 3000
        assert record.columns["up.arrival_us"].count == record.columns["up.sent_us"].count


@pytest.mark.parametrize("arrangement", ["threads", "one loop"])
def test_other_arrangements_measure_the_same(tmp_path: Path, arrangement: str) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        result = place_calls(far, 0, rig.KEY.encode(), PLAN, arrangement=arrangement)  # type: ignore[arg-type]
    for record in result.calls:
        assert record.columns["up.arrival_us"].count == record.columns["down.arrival_us"].count == 100


def test_far_end_that_is_not_there() -> None:
    with pytest.raises(CallError, match=r"Nothing answers at .* no far end listens"):
        place_calls(rig.own_address(), 0, b"k" * 20, PLAN)
    with pytest.raises(CallError, match="cannot be looked up"):
        place_calls("no-such-host.example.invalid", 0, b"k" * 20, PLAN)


def test_something_else_listens() -> None:
    address = rig.own_address()
    with socket.create_server((address, 4870)) as server:

        def answer() -> None:
            client, _ = server.accept()
            client.sendall(b"220 mail.example ESMTP\r\n")
            time.sleep(0.5)
            client.close()

        threading.Thread(target=answer, daemon=True).start()
        with pytest.raises(CallError, match="is not a far end"):
            place_calls(address, 0, b"k" * 20, PLAN)


def test_wrong_key(tmp_path: Path) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far), pytest.raises(CallError, match="did not accept the key"):
        place_calls(far, 0, b"not the right key at all", PLAN)


def test_requests_beyond_what_a_far_end_gives(tmp_path: Path) -> None:
    far = rig.own_address()
    greedy = CallPlan(**{**PLAN.__dict__, "payload_bytes": 5000})
    with rig.far_end(tmp_path, far), pytest.raises(CallError, match=r"refused: .*payload_bytes"):
        place_calls(far, 0, rig.KEY.encode(), greedy)


def test_far_end_killed_in_the_middle(tmp_path: Path) -> None:
    far = rig.own_address()
    long = CallPlan(**{**PLAN.__dict__, "packets": 3000})
    with rig.far_end(tmp_path, far) as child:

        def watch(live: LiveSecond) -> bool:
            if live.second == 1:
                subprocess.run(["pkill", "-9", "-P", str(child.pid)], check=False)
            return live.second < 20

        result = place_calls(far, 0, rig.KEY.encode(), long, watch)
    assert result.cut is not None
    assert (result.cut.code, result.cut.server_reachable) == ("gone", None)
    assert re.search(r"went away, \d+ s into the calls\.", result.cut.reason)
    judged_half(result, long)


def test_rtcp_tells_the_round_trip_where_time_stamps_may_not(tmp_path: Path) -> None:
    """The fastest of the run, never less than the path held packets back both ways."""
    far, listen = rig.own_address(), rig.own_address()
    long = CallPlan(**{**PLAN.__dict__, "packets": 700})
    with (
        rig.far_end(tmp_path, far),
        rig.path(tmp_path, listen, far, {"up": {"delay_ms": 90}, "down": {"delay_ms": 60}}),
    ):
        result = place_calls(listen, 0, rig.KEY.encode(), long)
    stamped = clock_relation(Record({**result.clock.meta, "shared": False}, result.clock.columns))
    assert stamped.kind == "estimated"
    alone = clock_relation(Record({"shared": False, "rtcp_rtt_us": result.clock.meta["rtcp_rtt_us"]}))
    assert alone.kind == "round trip"
    assert alone.one_way_us >= 75_000
    call = judge_record(result.calls[0], alone, criterion_for(find_codec("g711a"), 20))
    for side in call.values():
        assert side.quality is not None
        assert side.quality.metrics.delay_min_ms == pytest.approx(alone.one_way_us / 1000, abs=0.01)


def judged_half(result: RunResult, plan: CallPlan) -> None:
    """The probe’s half is enough for a server: what came down is counted, what was due until the cut is lost."""
    assert result.cut is not None
    upload = pack_run(result)
    head = Record.parse(split_parts(upload)[0])
    assert cut_of(head) == result.cut
    for record in result.calls:
        half = half_of(record)
        assert half is not None
        assert half.received <= half.expected
        assert "down.sent_us" not in record.columns
        sides = judge_record(record, clock_relation(head), criterion_for(find_codec("g711a"), 20))
        assert sides["up"].quality is None
        down = sides["down"].quality
        assert down is not None
        assert down.metrics.received > 0
        due = min(plan.packets, int(half.seconds * 50))
        assert down.metrics.sent >= due - 1
        assert (down.metrics.delay_p50_ms, down.mouth_to_ear_ms) == (None, None)


def test_far_end_that_falls_silent(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As when the line goes down: short silence is borne, long silence ends the run."""
    monkeypatch.setattr(probing, "SILENCE_LIMIT_S", 8.0)
    far = rig.own_address()
    long = CallPlan(**{**PLAN.__dict__, "packets": 3000})
    heard_since: list[int] = []
    goes_on = threading.Event()
    with rig.far_end(tmp_path, far) as child:

        def watch(live: LiveSecond) -> bool:
            session = children(child.pid)[0]
            if live.second == 1:
                os.kill(session, signal.SIGSTOP)
                threading.Timer(2, go_on, [session]).start()
            if goes_on.is_set():
                heard_since.append(live.up[0].received)
                if heard_since[-1] > heard_since[0]:  # it has told of itself since then
                    os.kill(session, signal.SIGSTOP)
            return True

        def go_on(session: int) -> None:
            os.kill(session, signal.SIGCONT)
            goes_on.set()

        try:
            result = place_calls(far, 0, rig.KEY.encode(), long, watch)
        finally:
            for pid in children(child.pid):
                os.kill(pid, signal.SIGCONT)
    assert heard_since[-1] > heard_since[0]
    assert result.cut is not None
    assert result.cut.code == "silent"
    assert "has said nothing for 8 s" in result.cut.reason
    assert (result.cut.after_s or 0) > 1 + 2 + 8 - 0.5  # by when the calls began, a moment after it was first heard
    judged_half(result, long)


def test_probe_killed_in_the_middle_leaves_nothing_sending(tmp_path: Path) -> None:
    """Its children die with it, and the far end ends the session and takes the next one."""
    far = rig.own_address()
    with rig.far_end(tmp_path, far) as child:
        arguments = ("call", far, "--seconds", "60", "--key-file", key_file(tmp_path))
        with subprocess.Popen([sys.executable, "-m", "tarnfell.cli", *arguments], stderr=subprocess.DEVNULL) as probe:
            deadline = time.monotonic() + 60
            while len(children(probe.pid)) < 2 and time.monotonic() < deadline:
                time.sleep(0.1)
            workers = children(probe.pid)
            assert len(workers) == 2
            os.kill(probe.pid, signal.SIGKILL)
            probe.wait()
        deadline = time.monotonic() + 10
        while time.monotonic() < deadline and (any(map(alive, workers)) or children(child.pid)):
            time.sleep(0.1)
        assert not any(map(alive, workers))
        assert not children(child.pid)
        assert len(place_calls(far, 0, rig.KEY.encode(), PLAN).calls) == 2


def children(pid: int) -> list[int]:
    found = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False)
    return [int(line) for line in found.stdout.split()]


def alive(pid: int) -> bool:
    try:
        return "State:\tZ" not in Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return False


def test_far_end_answers_no_media_without_the_session_key(tmp_path: Path) -> None:
    """A packet from somebody who only knows the port gets no answer, whatever it says."""
    far = rig.own_address()
    with rig.far_end(tmp_path, far), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
        stranger.settimeout(0.1)
        answered: list[bytes] = []

        def watch(live: LiveSecond) -> bool:
            for packet in (b"TFB1" + bytes(36), b"\x80\x00" + bytes(170), bytes(112)):
                for port in (22000, 22001, 22002):
                    stranger.sendto(packet, (far, port))
            try:
                answered.append(stranger.recv(2000))
            except (TimeoutError, ConnectionRefusedError):
                pass
            return True

        result = place_calls(far, 0, rig.KEY.encode(), PLAN, watch)
    assert answered == []
    assert all(r.columns["up.arrival_us"].count == 100 for r in result.calls)


def test_stream_specs_of_a_run_are_spread_and_distinct(tmp_path: Path) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        result = place_calls(far, 0, rig.KEY.encode(), CallPlan(**{**PLAN.__dict__, "calls": 10, "packets": 150}))
    ssrcs = {r.meta[d]["ssrc"] for r in result.calls for d in ("up", "down")}
    assert len(ssrcs) == 20
    # A stalled machine sends a backlog at once; the packet of each stream that left most promptly shows its phase.
    phases = sorted(min(us - 20_000 * i for i, us in enumerate(r.values("up.sent_us"))) for r in result.calls)
    assert 15_000 < phases[-1] - phases[0] < 25_000


def test_a_clock_set_in_the_middle_of_a_call_is_noticed_and_said(tmp_path: Path) -> None:
    """The probe's system clock jumps a quarter of a second in the middle of the call."""
    far = rig.own_address()
    code = (
        "import sys, time\n"
        "import tarnfell.cli.calling\n"  # takes seconds on a busy machine: counted from when it is done
        "from tarnfell.cli import main\n"
        "real, begun = time.time_ns, time.monotonic()\n"
        "time.time_ns = lambda: real() + (250_000_000 if time.monotonic() - begun > 4.0 else 0)\n"
        "sys.exit(main(sys.argv[1:]))\n"
    )
    with rig.far_end(tmp_path, far):
        done = subprocess.run(
            [sys.executable, "-c", code, "call", far, "--seconds", "8", "--json", "--key-file", str(tmp_path / "key")],
            capture_output=True, text=True, timeout=rig.HANGS_S, check=False,
        )  # fmt: skip
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert report["self_check"]["tainted"] is True
    assert any("clock was set by" in reason and "250" in reason for reason in report["self_check"]["reasons"])
    assert report["calls"][0]["up"]["lost"] == 0
