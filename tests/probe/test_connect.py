"""Why a far end was not reached: a way that is down is told from a name that is wrong."""

from __future__ import annotations

import socket

import pytest

from tarnfell.probe import connect
from tarnfell.probe.connect import CallError
from tarnfell.wire import failures


@pytest.mark.parametrize(
    ("error", "code", "words"),
    [
        (socket.gaierror(socket.EAI_AGAIN, "again"), failures.UNREACHABLE, "cannot be looked up"),
        (socket.gaierror(socket.EAI_NONAME, "no name"), failures.OTHER, "cannot be looked up"),
        (socket.gaierror(socket.EAI_FAIL, "failed"), failures.OTHER, "cannot be looked up"),
        (ConnectionRefusedError(111, "refused"), failures.UNREACHABLE, "no far end listens"),
        (OSError(113, "No route to host"), failures.UNREACHABLE, r"on TCP 4870 \(No route to host\)"),
        (TimeoutError("timed out"), failures.UNREACHABLE, r"on TCP 4870 \(timed out\)"),
    ],
)
def test_what_went_wrong_has_its_code(monkeypatch: pytest.MonkeyPatch, error: Exception, code: str, words: str) -> None:
    def create_connection(address: object, timeout: object) -> socket.socket:
        raise error

    monkeypatch.setattr(connect.socket, "create_connection", create_connection)
    with pytest.raises(CallError, match=words) as told:
        connect.connect("far.example", 4870, b"key")
    assert told.value.code == code
