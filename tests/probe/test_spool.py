"""The probe against servers that are away, broken or say no: results are kept, sent in order, and never twice."""

from __future__ import annotations

import json
import os
import stat
import threading
import time
import urllib.request
from pathlib import Path

import pytest

from tarnfell.probe import delivery, http, supervisor
from tarnfell.probe.agent import agent_status, enrol
from tarnfell.probe.call import RunResult
from tarnfell.probe.http import Refused, ServerClient, Unreachable
from tarnfell.probe.spool import Spool
from tarnfell.probe.state import AgentError, State
from tarnfell.probe.supervisor import run_agent
from tarnfell.probe.works.calls import pack_run
from tarnfell.wire.kinds.selfcheck import SelfCheck
from tarnfell.wire.record import Record, split_parts
from tests.probe.conftest import FakeServer


def work(
    state: Path, server: FakeServer, until: str = "/api/probe/heartbeat", times: int = 1, delivers: bool = True
) -> None:
    """Let the probe work until it has asked for ``until`` so often, and has delivered what it has."""
    stop = threading.Event()
    spool = State(state).spool

    def done() -> bool:
        return server.paths().count(until) >= times and not (delivers and spool.waiting())

    def look() -> None:
        limit = time.monotonic() + 60
        while not done() and time.monotonic() < limit:
            time.sleep(0.02)
        stop.set()

    watcher = threading.Thread(target=look)
    watcher.start()
    run_agent(State(state), stop)
    watcher.join()
    assert done()


def test_results_are_delivered_oldest_first_and_leave_the_disk(state: Path, server: FakeServer) -> None:
    for number, suffix, data in ((12, "record", b"r12"), (3, "failure", b'{"reason": "why"}'), (7, "record", b"r7")):
        (state / "spool" / f"{number:09d}.{suffix}").write_bytes(data)
    work(state, server)
    delivered = [(method, path, body) for method, path, body, _ in server.asked if "jobs" in path]
    assert delivered == [
        ("POST", "/api/probe/jobs/3/failure", b'{"reason": "why"}'),
        ("PUT", "/api/probe/jobs/7/record", b"r7"),
        ("PUT", "/api/probe/jobs/12/record", b"r12"),
    ]
    assert {authorization for _, _, _, authorization in server.asked} == {"Bearer s3cret"}
    assert list((state / "spool").iterdir()) == []


def test_what_the_server_will_never_take_is_set_aside(state: Path, server: FakeServer) -> None:
    server.answers["/api/probe/jobs/1/record"] = (422, b'{"detail": "The record file is empty."}')
    for number in (1, 2):
        (state / "spool" / f"{number:09d}.record").write_bytes(b"r")
    work(state, server)
    assert "/api/probe/jobs/2/record" in server.paths()
    assert [f.name for f in (state / "spool").iterdir()] == ["000000001.record.refused"]
    assert agent_status(State(state))["waiting_results"] == 0


@pytest.mark.parametrize("code", [401, 403, 410])
def test_a_probe_that_is_turned_away_ends_and_keeps_its_results(state: Path, server: FakeServer, code: int) -> None:
    server.answers["/api/probe/jobs/1/record"] = (code, b'{"detail": "Not known here."}')
    (state / "spool" / "000000001.record").write_bytes(b"r")
    with pytest.raises(AgentError, match="turned this probe away: Not known here"):
        run_agent(State(state), threading.Event())
    assert agent_status(State(state))["waiting_results"] == 1


@pytest.mark.parametrize(
    ("code", "body"),
    [(400, b"{}"), (404, b"{}"), (408, b""), (413, b""), (429, b""), (500, b""), (200, b"[1]"), (200, b'{"job": "x"}'),
     (200, b'{"job": {"id": 1}}'), (200, b'{"again_s": "soon"}'), (200, b'{"again_s": -5}')],
)  # fmt: skip
def test_other_answers_to_a_heartbeat_are_waited_out(
    state: Path, server: FakeServer, code: int, body: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(supervisor, "OUTAGE_PAUSE_S", 0.05)
    server.answers["/api/probe/heartbeat"] = (code, body)
    work(state, server, times=3)


def test_heartbeats_keep_within_bounds() -> None:
    wishes = [-5, 0, 0.3, 4, 99, "7", "soon", None, float("nan"), float("inf")]
    assert [supervisor.pause_of({"again_s": wish}) for wish in wishes] == [0.2, 0.2, 0.3, 4, 10, 7, 0.5, 0.5, 0.5, 0.5]
    assert supervisor.pause_of({}) == 0.5


def test_a_result_that_is_damaged_on_disk_holds_up_nothing(state: Path, server: FakeServer) -> None:
    for name, data in (("000000001.failure", b"{half"), ("000000002.outcome", b"\xff"), ("note.record", b"r"),
                       ("000000003.record", b"r3")):  # fmt: skip
        (state / "spool" / name).write_bytes(data)
    work(state, server)
    assert [path for path in server.paths() if "jobs" in path] == ["/api/probe/jobs/3/record"]
    assert {f.name for f in (state / "spool").iterdir()} == {
        "000000001.failure.refused", "000000002.outcome.refused", "note.record.refused",
    }  # fmt: skip
    work(state, server, times=len(server.told("/api/probe/heartbeat")) + 1)
    assert server.told("/api/probe/heartbeat")[-1]["holds"] == []


def wait_samples(state: Path, watch: int, *firsts: int, body: bytes = b"") -> None:
    for first in firsts:
        (state / "spool" / f"{watch:09d}-{first:016d}.samples").write_bytes(body or b"%d" % first)


def sent(server: FakeServer) -> list[tuple[str, list[bytes]]]:
    """Deliveries in their order, and what each held."""
    asked = [(path, body) for method, path, body, _ in server.asked if method == "PUT"]
    return [(path, split_parts(body) if path.endswith("/samples") else [body]) for path, body in asked]


def test_samples_that_waited_are_delivered_together_after_results(state: Path, server: FakeServer) -> None:
    """A watch's own by themselves, in the order of time; one alone under its own address."""
    wait_samples(state, 4, 30, 9, 200)
    wait_samples(state, 5, 7)
    (state / "spool" / "000000012.record").write_bytes(b"r12")
    work(state, server)
    assert sent(server) == [
        ("/api/probe/jobs/12/record", [b"r12"]),
        ("/api/probe/watches/4/samples", [b"9", b"30", b"200"]),
        ("/api/probe/watches/5/samples/7", [b"7"]),
    ]
    assert list((state / "spool").iterdir()) == []


def test_only_so_many_samples_go_together(state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch) -> None:
    wait_samples(state, 4, *range(205))
    work(state, server)
    assert [len(parts) for _, parts in sent(server)] == [100, 100, 5]
    server.asked.clear()
    monkeypatch.setattr(delivery, "MOST_BYTES_TOGETHER", 25)
    wait_samples(state, 4, 1, 2, 3, 4, 5, body=b"x" * 12)
    wait_samples(state, 4, 6, body=b"x" * 26)
    wait_samples(state, 4, 7, body=b"x")
    work(state, server)
    assert [[len(part) for part in parts] for _, parts in sent(server)] == [[12, 12], [12, 12], [12], [26], [1]]


def test_of_samples_that_are_not_taken_together_only_the_bad_stay(state: Path, server: FakeServer) -> None:
    """A server of before, which knows no such address, gets them one by one as well."""
    for code in (422, 404):
        server.answers["/api/probe/watches/4/samples"] = (code, b'{"detail": "The batch is none."}')
        server.answers["/api/probe/watches/4/samples/2"] = (422, b'{"detail": "The batch is none."}')
        wait_samples(state, 4, 1, 2, 3)
        work(state, server)
        each = [(f"/api/probe/watches/4/samples/{first}", [b"%d" % first]) for first in (1, 2, 3)]
        assert sent(server) == [("/api/probe/watches/4/samples", [b"1", b"2", b"3"]), *each]
        assert [f.name for f in (state / "spool").iterdir()] == ["000000004-0000000000000002.samples.refused"]
        server.asked.clear()


def test_samples_stay_while_the_server_is_away_and_when_it_turns_the_probe_away(
    state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(delivery, "OUTAGE_PAUSE_S", 0.1)
    wait_samples(state, 4, 1, 2)
    server.answers["/api/probe/watches/4/samples"] = (503, b"busy")
    work(state, server, until="/api/probe/watches/4/samples", times=2, delivers=False)
    server.answers["/api/probe/watches/4/samples"] = (410, b'{"detail": "Gone."}')
    with pytest.raises(AgentError, match="Gone"):
        run_agent(State(state), threading.Event())
    assert {path for path, _ in sent(server)} == {"/api/probe/watches/4/samples"}
    assert len(list((state / "spool").iterdir())) == 2


def test_what_is_held_is_told_with_each_heartbeat(
    state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(delivery.Delivery, "_deliver", lambda *_: None)
    for name in ("000000012.record", "000000003.failure", "000000003.ticket", "000000005.outcome", "1.record.refused"):
        (state / "spool" / name).write_bytes(b"{}")
    work(state, server, delivers=False)
    told = [json.loads(body) for _, path, body, _ in server.asked if path == "/api/probe/heartbeat"]
    assert told[0]["holds"] == [3, 5, 12]


def test_an_outage_keeps_everything(state: Path, server: FakeServer, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(delivery, "OUTAGE_PAUSE_S", 0.1)
    server.answers["/api/probe/jobs/5/record"] = (503, b"busy")
    (state / "spool" / "000000005.record").write_bytes(b"r5")
    work(state, server, until="/api/probe/jobs/5/record", times=3, delivers=False)
    assert agent_status(State(state))["waiting_results"] == 1
    server.answers.clear()
    work(state, server)
    assert agent_status(State(state))["waiting_results"] == 0


def test_a_job_cut_short_is_owned_up_to(state: Path, server: FakeServer) -> None:
    (state / "current-job.json").write_text('{"id": 9}')
    work(state, server)
    (told,) = [body for _, path, body, _ in server.asked if path == "/api/probe/jobs/9/failure"]
    assert "ended during the run" in json.loads(told)["reason"]
    assert not (state / "current-job.json").exists()


def test_a_server_that_no_longer_knows_the_probe_ends_it(state: Path, server: FakeServer) -> None:
    server.answers["/api/probe/heartbeat"] = (401, b'{"detail": "This probe is not known here."}')
    with pytest.raises(AgentError, match="turned this probe away: This probe is not known here"):
        run_agent(State(state), threading.Event())


def test_enrolment_is_kept_private(tmp_path: Path, server: FakeServer) -> None:
    server.answers["/api/probe/enrol"] = (200, b'{"secret": "s", "name": "probe", "site": "Pier"}')
    assert enrol(server.address, "token", State(tmp_path / "new")).site == "Pier"
    assert (tmp_path / "new" / "enrolment.json").stat().st_mode & 0o077 == 0


@pytest.mark.parametrize(
    ("code", "body", "error", "words"),
    [
        (422, b'{"detail": "Not so."}', Refused, "Not so."),
        (404, b"<html>", Refused, "404"),
        (500, b"", Unreachable, "500"),
        (429, b"", Unreachable, "429"),
        (200, b"<html>a hotel's sign-in page</html>", Unreachable, "Expecting value"),
    ],
)
def test_answers_are_told_apart(server: FakeServer, code: int, body: bytes, error: type[Exception], words: str) -> None:
    server.answers["/x"] = (code, body)
    with pytest.raises(error, match=words):
        ServerClient(server.address).post("/x", {})


def test_addresses_that_are_no_server() -> None:
    with pytest.raises(Refused, match="starts with http"):
        ServerClient("farend.example")
    with pytest.raises(Unreachable):
        ServerClient("http://127.0.0.1:9").post("/x", {})


def test_a_run_is_packed_with_its_clock_first() -> None:
    calls = [Record.of({"call": n}, {"up.sent_us": [n]}) for n in (1, 2)]
    result = RunResult(calls, [], Record.of({"shared": True}, {"t1_ns": [5]}), SelfCheck(), stopped=True)
    head, *rest = (Record.parse(part) for part in split_parts(pack_run(result)))
    assert (head.meta["shared"], head.meta["stopped"], head.values("t1_ns")) == (True, True, [5])
    assert [r.meta["call"] for r in rest] == [1, 2]


def test_what_is_kept_is_on_the_disk_before_it_has_its_name(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Written aside, synced, named, and the name synced: whole or not there, whenever the power goes."""
    done: list[str] = []
    sync, name = os.fsync, os.replace

    def synced(descriptor: int) -> None:
        done.append("folder" if stat.S_ISDIR(os.fstat(descriptor).st_mode) else "file")
        sync(descriptor)

    def named(aside: Path, path: Path) -> None:
        done.append(f"{Path(aside).read_bytes()!r} named {Path(path).name}")
        name(aside, path)

    monkeypatch.setattr(os, "fsync", synced)
    monkeypatch.setattr(os, "replace", named)
    Spool(tmp_path).keep_record(5, b"record")
    assert done == ["file", "b'record' named 000000005.record", "folder"]
    assert [path.name for path in tmp_path.iterdir()] == ["000000005.record"]


def test_a_body_is_sent_block_by_block_and_given_the_time_a_slow_line_takes(
    server: FakeServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A record of minutes is not given up, and sent anew for ever, because it takes longer than an answer may."""
    asked: list[tuple[bool, float]] = []
    real = urllib.request.urlopen

    def urlopen(request: urllib.request.Request, timeout: float) -> object:
        asked.append((hasattr(request.data, "read"), timeout))
        return real(request, timeout=timeout)

    monkeypatch.setattr(urllib.request, "urlopen", urlopen)
    client = ServerClient(server.address)
    for size in (0, 64 << 10, 4 << 20, 5 << 20):
        client.put(f"/{size}", b"x" * size)
    assert asked == [(True, 20.0), (True, 20 + 16.384), (True, 20 + 1048.576), (True, 20 + 1048.576)]
    assert [(method, path, len(body)) for method, path, body, _ in server.asked] == [
        ("PUT", f"/{size}", size) for size in (0, 64 << 10, 4 << 20, 5 << 20)
    ]
    with pytest.raises(Unreachable):  # this server has no files
        client.fetch("/program")
    assert asked[-1] == (False, 20.0)


def test_an_answer_that_a_slow_line_holds_up_is_waited_for(server: FakeServer, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(http, "TIMEOUT_S", 0.1)
    monkeypatch.setattr(http, "SLOWEST_BYTES_PER_S", 10)
    real = server.answer
    monkeypatch.setattr(server, "answer", lambda path: (time.sleep(1), real(path))[1])
    ServerClient(server.address).put("/record", b"x" * 3000)
    with pytest.raises(Unreachable, match="timed out"):
        ServerClient(server.address).put("/record", b"")
