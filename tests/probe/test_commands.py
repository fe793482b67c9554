"""Commands as the probe carries them out: distances, answering, updating itself, ending."""

from __future__ import annotations

import hashlib
import json
import socket
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from tarnfell.probe import program as programs
from tarnfell.probe.call import place_calls
from tarnfell.probe.commands import Commander, CommandError
from tarnfell.probe.http import ServerClient
from tarnfell.probe.plan import CallPlan
from tarnfell.probe.program import ReplaceError, carried_enrolment, replace_own_file
from tarnfell.probe.state import AgentError, State
from tarnfell.server import probe_file
from tarnfell.wire.failures import OTHER, Failure
from tests import rig

KEY = "a-key-of-this-test"


@pytest.fixture
def state(tmp_path: Path) -> State:
    made = State(tmp_path / "probe")
    made.lock()
    return made


@pytest.fixture
def commander(state: State):  # type: ignore[no-untyped-def]
    made = Commander(state, ServerClient("http://127.0.0.1:9", "secret"))
    yield made
    made.close()


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def test_distances_tell_a_far_end_from_whatever_else_answers(tmp_path: Path, commander: Commander) -> None:
    far, other = rig.own_address(), rig.own_address()
    with rig.far_end(tmp_path, far), socket.create_server((other, 0)) as listener:

        def greet() -> None:
            sock, _ = listener.accept()
            sock.sendall(b"220 mail.example ready\r\n")
            sock.close()

        threading.Thread(target=greet, daemon=True).start()
        asked = [
            {"id": 1, "host": far, "port": rig.CONTROL_PORT},
            {"id": 2, "host": other, "port": listener.getsockname()[1]},
            {"id": 3, "host": rig.own_address(), "port": 4870},
            {"id": 4, "host": "no-such-name.example", "port": 4870},
        ]
        found = commander.do({"kind": "distances", "arguments": {"far_ends": asked}})["distances"]
    assert 0 < found[0]["connect_ms"] < 1000
    assert "no far end" in found[1]["failure"]
    assert found[2]["failure"] == "Connection refused"
    assert found[3]["failure"]


def test_a_far_end_is_tried_with_its_key_before_it_is_needed(tmp_path: Path, commander: Commander) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        asked = [
            {"id": 1, "host": far, "port": rig.CONTROL_PORT, "key": rig.KEY},
            {"id": 2, "host": far, "port": rig.CONTROL_PORT, "key": "x" * 24},
            {"id": 3, "host": far, "port": rig.CONTROL_PORT},
            {"id": 4, "host": rig.own_address(), "port": 4870, "key": rig.KEY},
        ]
        found = commander.do({"kind": "distances", "arguments": {"far_ends": asked}})["distances"]
    assert [one.get("key_fits") for one in found] == [True, False, None, None]
    assert "connect_ms" not in found[3]


def test_a_probe_answers_calls_until_it_is_silenced(state: State, commander: Commander) -> None:
    how = {"port": free_port(), "media_low": 24000, "media_high": 24015, "key": KEY}
    told = commander.do({"kind": "answer", "arguments": how})
    assert isinstance(told["addresses"], list)
    plan = CallPlan(calls=1, packets=20, ptime_us=20_000, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=46)
    result = place_calls("127.0.0.1", how["port"], KEY.encode(), plan)
    assert len(result.calls) == 1
    # Restarted, it answers again without being asked.
    commander.close()
    again = Commander(state, ServerClient("http://127.0.0.1:9"))
    again.resume()
    socket.create_connection(("127.0.0.1", how["port"]), 5).close()
    again.do({"kind": "silence"})
    assert state.answering() is None
    with pytest.raises(OSError, match="refused"):
        socket.create_connection(("127.0.0.1", how["port"]), 5)


def test_a_port_in_use_is_said(commander: Commander, state: State) -> None:
    with socket.create_server(("0.0.0.0", 0)) as taken:
        how = {"port": taken.getsockname()[1], "media_low": 24000, "media_high": 24015, "key": KEY}
        with pytest.raises(CommandError, match="cannot listen on"):
            commander.do({"kind": "answer", "arguments": how})
    assert state.answering() is None


def test_a_command_of_a_newer_server_is_turned_down(commander: Commander) -> None:
    with pytest.raises(CommandError, match="does not know “sing”"):
        commander.do({"kind": "sing"})


def test_a_command_cut_short_is_owned_up_to(commander: Commander, state: State) -> None:
    state.begin_command({"id": 6, "kind": "distances", "arguments": {}})
    commander.own_up()
    (kept,) = state.undelivered()
    assert kept.name == "000000006.outcome"
    assert "ended before this was done" in json.loads(kept.read_text())["failure"]
    assert state.cut_off_command() is None


def test_a_probe_runs_once_on_a_machine(state: State) -> None:
    with pytest.raises(AgentError, match="already runs"):
        State(state.folder).lock()
    state.release()
    State(state.folder).lock()


def test_clearing_leaves_nothing(state: State) -> None:
    state.keep_failure(1, Failure(OTHER, "why"))
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
    assert carried_enrolment() == {"server": "http://server.example", "code": "code", "folder": "probe-3"}
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
        capture_output=True, text=True, timeout=30, check=False,
    )  # fmt: skip
    assert done.returncode == 1
    assert "carries no enrolment" in done.stderr
