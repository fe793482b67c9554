"""A probe at work: what goes on beside what, what a stop and a crash do, and what is owned up to afterwards."""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tarnfell.probe import supervisor
from tarnfell.probe.locks import hold
from tarnfell.probe.spool import Spool
from tarnfell.probe.state import JobInHand, State
from tarnfell.probe.supervisor import run_agent
from tarnfell.wire.kinds import KINDS, may_begin
from tarnfell.wire.kinds.calls import CallPlan, CallsArguments
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.wire.record import Record, split_parts
from tests import rig
from tests.probe.conftest import FakeServer


@contextmanager
def at_work(state: Path) -> Iterator[None]:
    stop = threading.Event()
    failed: list[BaseException] = []

    def run() -> None:
        try:
            run_agent(State(state), stop)
        except BaseException as error:
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    try:
        yield
    finally:
        stop.set()
        thread.join()
    assert failed == []


@pytest.fixture
def far(tmp_path: Path) -> Iterator[str]:
    address = rig.own_address()
    with rig.far_end(tmp_path, address):
        yield address


def calls(number: int, far: str, seconds: float = 60) -> dict[str, Any]:
    plan = CallPlan(calls=1, packets=int(seconds * 50), ptime_us=20_000, payload_type=8, clock_hz=8000,
                    payload_bytes=160, dscp=46)  # fmt: skip
    return {"id": number, "kind": "calls", "arguments": plain(CallsArguments(plan, far, rig.CONTROL_PORT, rig.KEY))}


def distances(number: int) -> dict[str, Any]:
    return {"id": number, "kind": "distances", "arguments": {"far_ends": []}}


def path_of(number: int, what: str) -> str:
    return f"/api/probe/jobs/{number}/{what}"


def heard(server: FakeServer, path: str) -> None:
    rig.eventually(lambda: path in server.paths(), f"a request to {path}")


@pytest.mark.parametrize(
    ("lane", "under_way", "may"),
    [
        ("line", [], True), ("line", ["light"], True), ("line", ["line"], False), ("line", ["alone"], False),
        ("light", [], True), ("light", ["light", "line"], True), ("light", ["alone"], False),
        ("alone", [], True), ("alone", ["light"], False), ("alone", ["line"], False), ("alone", ["alone"], False),
    ],
)  # fmt: skip
def test_what_may_go_on_beside_what(lane: Any, under_way: list[Any], may: bool) -> None:
    assert may_begin(lane, under_way) is may


def test_light_work_and_the_heartbeat_go_on_beside_calls_and_a_second_load_waits(
    state: Path, server: FakeServer, far: str
) -> None:
    server.offers = [calls(1, far), calls(2, far, 1), distances(3)]
    with at_work(state):
        heard(server, path_of(1, "progress"))
        heard(server, path_of(3, "outcome"))
        beats = len(server.told("/api/probe/heartbeat"))
        rig.eventually(lambda: len(server.told("/api/probe/heartbeat")) > beats + 3, "more heartbeats")
        assert server.told("/api/probe/heartbeat")[-1]["holds"] == [1, 2]
        assert path_of(1, "record") not in server.paths()
        assert path_of(2, "progress") not in server.paths()
        server.stop = [1]
        heard(server, path_of(2, "record"))
    assert server.paths().index(path_of(1, "record")) < server.paths().index(path_of(2, "record"))
    (body,) = [body for _, path, body, _ in server.asked if path == path_of(1, "record")]
    head, call = (Record.parse(part) for part in split_parts(body))
    assert head.meta["stopped"] is True
    assert 0 < len(call.values("up.sent_us")) < 3000
    assert list((state / "jobs").iterdir()) == []
    assert Spool(state / "spool").waiting() == []


def test_a_process_that_crashes_is_that_jobs_failure_and_nobody_elses(
    state: Path, server: FakeServer, far: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    pids: list[int] = []
    begun = supervisor.Worker.__init__

    def noted(self: supervisor.Worker, *given: Any) -> None:
        begun(self, *given)
        pids.append(self.child.pid)

    monkeypatch.setattr(supervisor.Worker, "__init__", noted)
    server.offers = [calls(1, far)]
    with at_work(state):
        heard(server, path_of(1, "progress"))
        rig.kill_hard(pids[0])
        heard(server, path_of(1, "failure"))
        server.offers = [calls(2, far, 1)]
        heard(server, path_of(2, "record"))
    (told,) = server.told(path_of(1, "failure"))
    assert told["code"] == "own"
    assert told["reason"] == "The probe's process for this run was ended by signal 9. Place the calls again."


@pytest.mark.parametrize(
    ("kind", "code", "says"),
    [
        ("calls", -15, "The probe's process for this run was ended by signal 15. Place the calls again."),
        ("calls", 3, "The probe's process for this run was ended with code 3. Place the calls again."),
        ("check", 0, "The probe's process for this was ended with code 0. Try again."),
    ],
)
def test_how_a_process_ended_is_told(kind: str, code: int, says: str) -> None:
    assert supervisor._ended(JobInHand(7, kind, {}), code) == says


def test_what_is_stopped_while_it_waits_or_connects_ends_at_once(state: Path, server: FakeServer, far: str) -> None:
    """The first is stopped on its way to a far end that never greets, the second before its turn."""
    with socket.create_server((rig.own_address(), 0)) as mute:
        host, port = mute.getsockname()
        never = calls(1, host)
        never["arguments"]["far_port"] = port
        server.offers = [never, calls(2, far)]
        with at_work(state):
            rig.eventually(lambda: {1, 2} <= set(_holds(server)), "both jobs to be held")
            server.stop = [1, 2]
            heard(server, path_of(1, "failure"))
            heard(server, path_of(2, "failure"))
    for number in (1, 2):
        (told,) = server.told(path_of(number, "failure"))
        assert told["reason"] == "It was stopped before it began."


def _holds(server: FakeServer) -> list[int]:
    told = server.told("/api/probe/heartbeat")
    return list(told[-1]["holds"]) if told else []


def test_what_it_knows_is_told_and_what_it_does_not_is_turned_down(state: Path, server: FakeServer) -> None:
    server.offers = [
        {"id": 1, "kind": "sing", "arguments": {}},
        {"id": 2, "kind": "distances", "arguments": {"far_ends": [], "loudly": True}},
        distances(3),
    ]
    with at_work(state):
        for number, what in ((1, "failure"), (2, "failure"), (3, "outcome")):
            heard(server, path_of(number, what))
    assert server.told("/api/probe/heartbeat")[0]["kinds"] == sorted(KINDS)
    assert "does not know “sing”" in server.told(path_of(1, "failure"))[0]["reason"]
    assert "“loudly”" in server.told(path_of(2, "failure"))[0]["reason"]
    assert server.told(path_of(3, "outcome")) == [{"result": {"distances": []}}]


def test_a_job_offered_twice_is_done_once(state: Path, server: FakeServer) -> None:
    server.answers[path_of(4, "outcome")] = (503, b"")
    server.offers = [distances(4), distances(4)]
    with at_work(state):
        heard(server, path_of(4, "outcome"))
        server.offers = [distances(4)]  # the answer that gave it out was thought lost
        rig.eventually(lambda: not server.offers, "the offer to be told")
        rig.eventually(lambda: _holds(server) == [4], "the result to be held")
        server.answers.clear()
        rig.eventually(lambda: _holds(server) == [], "the result to be delivered", within_s=60)
    assert not (state / "jobs" / "000000004.json").exists()


def in_hand(state: Path, number: int, kind: str, arguments: dict[str, Any] | None = None) -> State:
    kept = State(state)
    (state / "jobs").mkdir(exist_ok=True)
    kept.keep_job(JobInHand(number, kind, arguments or {}))
    return kept


def test_jobs_in_hand_when_it_ended_are_owned_up_to_or_begun(state: Path, server: FakeServer) -> None:
    in_hand(state, 1, "calls").job_lock(1).touch()  # begun
    in_hand(state, 2, "update", {"program": "new", "sha256": "0" * 64}).job_lock(2).touch()
    in_hand(state, 3, "distances", {"far_ends": []})  # not begun
    done = in_hand(state, 4, "distances", {"far_ends": []})
    done.job_lock(4).touch()
    done.spool.keep_outcome(4, {"distances": []})
    with at_work(state):
        for number, what in ((1, "failure"), (2, "failure"), (3, "outcome"), (4, "outcome")):
            heard(server, path_of(number, what))
    assert "ended during the run" in server.told(path_of(1, "failure"))[0]["reason"]
    assert "ended before this was done" in server.told(path_of(2, "failure"))[0]["reason"]
    assert path_of(4, "failure") not in server.paths()
    assert list((state / "jobs").iterdir()) == []


def test_a_process_that_outlived_its_supervisor_is_waited_for(state: Path, server: FakeServer) -> None:
    kept = in_hand(state, 6, "calls")
    held = hold(kept.job_lock(6))
    assert held is not None
    with at_work(state):
        rig.eventually(lambda: _holds(server) == [6], "the job to be held")
        kept.spool.keep_record(6, b"what it had")
        beats = len(server.told("/api/probe/heartbeat"))
        rig.eventually(lambda: len(server.told("/api/probe/heartbeat")) > beats + 2, "more heartbeats")
        assert path_of(6, "record") not in server.paths()  # it may still be at it
        held.close()
        heard(server, path_of(6, "record"))
    assert path_of(6, "failure") not in server.paths()


@pytest.mark.parametrize(("program", "what"), [("this one", "outcome"), ("another", "failure")])
def test_an_update_begun_by_a_program_of_before_is_told_by_the_one_that_runs(
    state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch, program: str, what: str
) -> None:
    monkeypatch.setattr(supervisor, "program_digest", lambda: "this one")
    told = {"id": 8, "kind": "update", "arguments": {"program": program, "sha256": "0" * 64}}
    (state / "current-command.json").write_text(json.dumps(told))
    (state / "current-job.json").write_text('{"id": 7}')
    with at_work(state):
        heard(server, path_of(8, what))
        heard(server, path_of(7, "failure"))
    assert not (state / "current-command.json").exists()
    assert not (state / "current-job.json").exists()


def test_a_server_that_is_older_is_told_apart_from_one_that_is_away(
    state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(supervisor, "OUTAGE_PAUSE_S", 0.05)
    for code, words in ((422, "the server is older than this probe's program"), (404, "the server answers no")):
        server.answers["/api/probe/heartbeat"] = (code, b'{"detail": "Kinds is not known here."}')
        beats = len(server.paths())
        with at_work(state):
            rig.eventually(lambda beats=beats: len(server.paths()) > beats + 2, "heartbeats")
        said = capsys.readouterr().err
        assert said.count(words) == 1
        assert "Kinds is not known here" in said


def test_it_looks_around_at_once_and_then_now_and_again(
    state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    looks: list[float] = []

    def look() -> Surroundings:
        looks.append(0.0)
        return Surroundings()

    monkeypatch.setattr(supervisor, "here", look)
    with at_work(state):
        rig.eventually(lambda: len(server.told("/api/probe/heartbeat")) > 4, "heartbeats")
        assert len(looks) == 1
        monkeypatch.setattr(supervisor, "LOOK_AROUND_S", 0.0)
        rig.eventually(lambda: len(looks) > 2, "more looks")
    # What is around is told when it has changed.
    environments = [one["environment"] for one in server.told("/api/probe/heartbeat")]
    assert environments[0] is not None
    assert not any(environments[1:])
