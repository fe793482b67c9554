"""The one-file probe's own command line, in this process."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import pytest

from tarnfell.probe import main as mains
from tarnfell.probe.http import Unreachable
from tarnfell.probe.main import main
from tarnfell.probe.state import Enrolment, State
from tarnfell.server.place import probe_file

ENROLMENT = Enrolment("http://server.example", "secret", "rack-box", "Pier")


@pytest.fixture
def own_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    file = tmp_path / "probe.pyz"
    file.write_bytes(probe_file.probe_file("http://server.example", "the-code", 3))
    monkeypatch.setattr(sys, "argv", [str(file)])
    return file


def test_status_of_a_probe(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    state = State(tmp_path)
    state.keep_enrolment(ENROLMENT)
    assert main(["--state", str(tmp_path), "status"]) == 0
    said = capsys.readouterr().out
    assert "rack-box" in said
    assert "waiting_results    0" in said
    assert "secret" not in said


def test_status_of_none(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["--state", str(tmp_path), "status"]) == 1
    assert "is not enrolled" in capsys.readouterr().err


def test_each_probe_has_a_folder_of_its_own(own_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    assert mains._own_folder() == tmp_path / "data" / "tarnfell" / "probe-3"


def test_it_tries_until_the_server_answers(
    own_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    asked: list[tuple[str, str]] = []

    def enrol(server: str, code: str, state: State) -> None:
        asked.append((server, code))
        if len(asked) < 4:
            raise Unreachable("no route")
        state.keep_enrolment(ENROLMENT)

    monkeypatch.setattr(mains, "enrol", enrol)
    monkeypatch.setattr(mains, "_ENROL_PAUSE_S", 0.0)
    monkeypatch.setattr(mains, "run_agent", lambda state, stop: state.clear())
    assert main(["--state", str(tmp_path / "state")]) == 0
    assert asked == [("http://server.example", "the-code")] * 4
    said = capsys.readouterr().out
    assert said.count("cannot be reached") == 1
    assert "This machine is the probe “rack-box” at Pier." in said
    assert "You can delete it." in said


def test_stopped_by_hand_it_says_how_to_go_on(
    own_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def interrupted(*_: object) -> None:
        raise KeyboardInterrupt

    State(tmp_path).keep_enrolment(ENROLMENT)
    monkeypatch.setattr(mains, "run_agent", interrupted)
    assert main(["--state", str(tmp_path)]) == 0
    assert "Start it again the same way" in capsys.readouterr().out


def test_a_folder_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    blocked = tmp_path / "file"
    blocked.write_text("in the way")
    with pytest.raises(mains.AgentError, match="cannot be written"):
        State(blocked / "probe").keep_enrolment(ENROLMENT)


def test_a_state_cut_off_while_being_written_is_read_as_none(tmp_path: Path) -> None:
    state = State(tmp_path)
    (tmp_path / "answering.json").write_text('{"port": 48')
    assert state.wanted("answering") is None
    state.keep_enrolment(ENROLMENT)
    assert json.loads((tmp_path / "enrolment.json").read_text())["secret"] == "secret"
    assert state.enrolment() == ENROLMENT
