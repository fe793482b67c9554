"""What a probe does besides calls: distances, answering, updating itself, clearing up."""

from __future__ import annotations

import hashlib
import json
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest

from tarnfell.probe import answering as answerers
from tarnfell.probe import program as programs
from tarnfell.probe.answering import Answering
from tarnfell.probe.asking import names
from tarnfell.probe.call import place_calls
from tarnfell.probe.http import ServerClient
from tarnfell.probe.program import Carried, ReplaceError, carried_enrolment, replace_own_file
from tarnfell.probe.state import AgentError, State
from tarnfell.probe.works.distances import distance, distances
from tarnfell.probe.works.services import services
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.server.place import probe_file
from tarnfell.wire.failures import OTHER, Failure
from tarnfell.wire.kinds.answer import AnswerArguments
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.check import NameFacts, ServiceAsked
from tarnfell.wire.kinds.distances import DistancesArguments, DistancesResult, FarEndAsked, FarEndFound
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.services import ServicesArguments, ServicesResult
from tests import rig

KEY = "a-key-of-this-test"


@pytest.fixture
def state(tmp_path: Path) -> State:
    made = State(tmp_path / "probe")
    made.lock()
    return made


@pytest.fixture
def answering(state: State) -> Iterator[Answering]:
    made = Answering(state)
    yield made
    made.end()


def found_by(state: State, asked: list[FarEndAsked]) -> tuple[FarEndFound, ...]:
    """As the work keeps it and a server reads it."""
    hands = Hands(7, state.spool, ServerClient("http://127.0.0.1:9"), lambda: True, lambda: None, lambda: 0, print)
    distances(DistancesArguments(tuple(asked)), hands)
    (kept,) = state.spool.waiting()
    assert kept.name == "000000007.outcome"
    return read(DistancesResult, json.loads(kept.read_text())["result"]).distances


def test_distances_tell_a_far_end_from_whatever_else_answers(tmp_path: Path, state: State) -> None:
    far, other = rig.own_address(), rig.own_address()
    with rig.far_end(tmp_path, far), socket.create_server((other, 0)) as listener:

        def greet() -> None:
            sock, _ = listener.accept()
            sock.sendall(b"220 mail.example ready\r\n")
            sock.close()

        threading.Thread(target=greet, daemon=True).start()
        asked = [
            FarEndAsked(1, far, rig.CONTROL_PORT),
            FarEndAsked(2, other, listener.getsockname()[1]),
            FarEndAsked(3, rig.own_address(), 4870),
            FarEndAsked(4, "no-such-name.example", 4870),
        ]
        found = found_by(state, asked)
    assert [one.id for one in found] == [1, 2, 3, 4]
    assert 0 < (found[0].connect_ms or 0) < 1000
    assert [one.connect_ms for one in found[1:]] == [None, None, None]
    assert "no far end" in (found[1].failure or "")
    assert found[2].failure == "Connection refused"
    assert found[3].failure


def test_a_far_end_is_tried_with_its_key_before_it_is_needed(tmp_path: Path, state: State) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        asked = [
            FarEndAsked(1, far, rig.CONTROL_PORT, rig.KEY),
            FarEndAsked(2, far, rig.CONTROL_PORT, "x" * 24),
            FarEndAsked(3, far, rig.CONTROL_PORT),
            FarEndAsked(4, rig.own_address(), 4870, rig.KEY),
        ]
        found = found_by(state, asked)
    assert [one.key_fits for one in found] == [True, False, None, None]


def test_a_probe_answers_calls_until_it_is_silenced(state: State, answering: Answering) -> None:
    how = AnswerArguments(rig.free_port(), 24000, 24015, KEY)
    assert isinstance(answering.begin(how).addresses, tuple)
    plan = CallPlan(calls=1, packets=20, ptime_us=20_000, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=46)
    result = place_calls("127.0.0.1", how.port, KEY.encode(), plan)
    assert len(result.calls) == 1
    # Restarted, it answers again without being asked.
    answering.end()
    again = Answering(state)
    again.keep_up()
    rig.eventually(lambda: distance("127.0.0.1", how.port, 1)[0] is not None, "the far end to answer again")
    again.cease()
    assert state.wanted("answering") is None
    with pytest.raises(OSError, match="refused"):
        socket.create_connection(("127.0.0.1", how.port), 5)


def test_answering_that_ended_by_itself_is_begun_again_and_not_at_once(
    state: State, answering: Answering, monkeypatch: pytest.MonkeyPatch
) -> None:
    begun: list[int] = []
    codes: list[int | None] = [None]
    monkeypatch.setattr(answering, "_spawn", lambda *_: begun.append(1) or SimpleNamespace(poll=lambda: codes[-1]))
    clock = [1000.0]
    monkeypatch.setattr(answerers.time, "monotonic", lambda: clock[0])
    answering.keep_up()
    assert begun == []  # nobody has asked for it
    state.keep_wanted(answerers.WANTED, plain(AnswerArguments(rig.free_port(), 24000, 24015, KEY)))
    for after_s, code, times in ((0, None, 1), (100, None, 1), (0, 1, 2), (29.9, 1, 2), (0.2, 1, 3), (100, None, 3)):
        clock[0] += after_s
        codes.append(code)
        answering.keep_up()
        assert len(begun) == times, (after_s, code)
    answering._process = None


def test_a_port_in_use_is_said(answering: Answering, state: State) -> None:
    with socket.create_server(("0.0.0.0", 0)) as taken:
        how = AnswerArguments(taken.getsockname()[1], 24000, 24015, KEY)
        with pytest.raises(WorkFailed, match="cannot listen on"):
            answering.begin(how)
    assert state.wanted("answering") is None


def test_a_probe_runs_once_on_a_machine(state: State) -> None:
    with pytest.raises(AgentError, match="already runs"):
        State(state.folder).lock()
    state.release()
    State(state.folder).lock()


def test_clearing_leaves_nothing(state: State) -> None:
    state.spool.keep_failure(1, Failure(OTHER, "why"))
    state.clear()
    assert not state.folder.exists()


@pytest.fixture
def own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A one-file probe, with this process taken for it."""
    file = tmp_path / "probe.pyz"
    file.write_bytes(probe_file.probe_file("http://server.example", "code", 3))
    monkeypatch.setattr(sys, "argv", [str(file)])
    return file


def test_an_update_keeps_the_enrolment(own: Path) -> None:
    new = probe_file.program()
    replace_own_file(new, hashlib.sha256(new).hexdigest())
    assert carried_enrolment() == Carried("http://server.example", "code", "probe-3")
    assert programs.program_digest() == probe_file.program_digest()
    assert [f.name for f in own.parent.iterdir()] == ["probe.pyz"]


@pytest.mark.parametrize(
    ("new", "sha256", "says"),
    [
        (b"half a progr", "0" * 64, "did not arrive whole"),
        (b"no zip at all", None, "not a probe program"),
        (b"PK\x05\x06" + bytes(18), None, "not a probe program"),
    ],
)
def test_an_update_that_is_none_changes_nothing(own: Path, new: bytes, sha256: str | None, says: str) -> None:
    before = own.read_bytes()
    with pytest.raises(ReplaceError, match=says):
        replace_own_file(new, sha256 or hashlib.sha256(new).hexdigest())
    assert own.read_bytes() == before
    assert [f.name for f in own.parent.iterdir()] == ["probe.pyz"]


def test_an_installed_probe_is_not_replaced(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sys, "argv", ["/usr/bin/tarnfell"])
    with pytest.raises(ReplaceError, match="installed package"):
        replace_own_file(b"", "")


def test_the_file_says_when_it_carries_no_enrolment(tmp_path: Path) -> None:
    file = tmp_path / "bare.pyz"
    file.write_bytes(probe_file.program())
    done = subprocess.run(
        [sys.executable, "-I", "-S", str(file), "--state", str(tmp_path / "s")],
        capture_output=True, text=True, timeout=rig.HANGS_S, check=False,
    )  # fmt: skip
    assert done.returncode == 1
    assert "carries no enrolment" in done.stderr


def test_names_and_services_are_asked_once_and_told(state: State, monkeypatch: pytest.MonkeyPatch) -> None:
    known = {"meet.example": "192.0.2.7"}
    asked: list[tuple[str, str]] = []

    def ask(server: str, name: str, kind: int = 1, transport: str = "udp", port: int = 53) -> NameFacts:
        asked.append((server, transport))
        if server == "192.0.2.54":
            return NameFacts(server, name, transport, None, None, failure="no answer")  # type: ignore[arg-type]
        return NameFacts(server, name, "udp", 300.0 if len(asked) == 1 else 9.0, 0, (known[name],))

    monkeypatch.setattr(names, "ask", ask)
    hands = Hands(7, state.spool, ServerClient("http://127.0.0.1:9"), lambda: True, lambda: None, lambda: 0, print)
    with socket.create_server(("127.0.0.1", 0)) as listener:
        here = ServiceAsked("Here", "127.0.0.1", listener.getsockname()[1])
        both = ("meet.example", "meet.example")
        arguments = ServicesArguments(both, ("192.0.2.53", "192.0.2.54"), (here,))
        services(arguments, hands)
    (kept,) = state.spool.waiting()
    told = read(ServicesResult, json.loads(kept.read_text())["result"])
    # What was slow is asked again and the faster told; a silent server is asked over TCP, and for no more.
    assert [(one.resolver, one.took_ms) for one in told.names] == [
        ("192.0.2.53", 9.0), ("192.0.2.53", 9.0), ("192.0.2.54", None), ("192.0.2.54", None),
    ]  # fmt: skip
    assert asked == [("192.0.2.53", "udp")] * 3 + [("192.0.2.54", "udp"), ("192.0.2.54", "tcp")]
    assert [(one.asked, one.state) for one in told.services] == [(here, "open")]
