"""The far end under people who want it to misbehave: bounded, and fine afterwards."""

from __future__ import annotations

import contextlib
import errno
import io
import socket
import sys
import threading
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest

from tarnfell.farend.daemon import MAX_OPENINGS, MAX_SESSIONS, FarEndConfig, FarEndError, listen, run
from tarnfell.media import host
from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.probe.call import place_calls
from tarnfell.probe.connect import CallError
from tarnfell.wire import WireError, failures
from tarnfell.wire.control import Binding, Seal, session_key
from tarnfell.wire.kinds.calls import CallPlan
from tests import rig
from tests.wire.test_own_formats import GOOD_STREAM

PLAN = CallPlan(calls=1, packets=25, ptime_us=20_000, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=46)
KEY = rig.KEY.encode()


def still_works(address: str) -> None:
    result = place_calls(address, 0, KEY, PLAN)
    assert result.calls[0].columns["up.arrival_us"].count == 25


class Session:
    """A probe that speaks the protocol by hand."""

    def __init__(self, address: str) -> None:
        sock = socket.create_connection((address, rig.CONTROL_PORT))
        self.address = address
        self.channel = Channel(sock, Seal("probe", None), Seal("farend", None))
        greeting = self.channel.receive_json()
        self._nonces = bytes.fromhex(greeting["nonce"]), b"n" * 16
        self.channel.send({"nonce": self._nonces[1].hex()})
        control = self.key("control")
        self.channel.reseal(Seal("probe", control), Seal("farend", control))

    def key(self, purpose: str) -> bytes:
        return session_key(KEY, *self._nonces, purpose)

    def open(self, calls: int = 1, **changes: Any) -> dict[str, Any]:
        up = [{**GOOD_STREAM.as_json(), "ssrc": n + 1, **changes} for n in range(calls)]
        down = [{**stream, "ssrc": n + 1001} for n, stream in enumerate(up)]
        self.channel.send({"up": up, "down": down})
        return self.channel.receive_json()


GARBAGE = (
    b"",
    b"GET / HTTP/1.1\r\n\r\n",
    b"\xff" * 5000,
    b"\x00\x00\x00\x02\x01{}",
    b"\x00\x00\x00\x0b\x01" + b'{"nonce":1}',
)


def test_garbage_ends_one_session_only(far: str) -> None:
    for garbage in GARBAGE:
        with socket.create_connection((far, rig.CONTROL_PORT)) as stranger:
            stranger.sendall(garbage)
            stranger.shutdown(socket.SHUT_WR)
            stranger.settimeout(5)
            try:
                while stranger.recv(4096):
                    pass
            except ConnectionResetError:
                pass  # it did not read the rest of what it did not understand
    still_works(far)


@pytest.mark.parametrize(
    ("request_", "words"),
    [
        ({}, "names no streams"),
        ({"up": [], "down": []}, "0 concurrent calls"),
        ({"up": [GOOD_STREAM.as_json()], "down": []}, "names no streams"),
        ({"up": [GOOD_STREAM.as_json()] * 101, "down": [GOOD_STREAM.as_json()] * 101}, "101 concurrent calls"),
        ({"up": [{}], "down": [{}]}, "missing or unknown"),
        ({"up": ["x"], "down": [3]}, "missing or unknown"),
    ],
)
def test_requests_that_cannot_be_granted(far: str, request_: dict, words: str) -> None:
    session = Session(far)
    session.channel.send(request_)
    assert words in session.channel.receive_json()["refused"]


def test_more_than_it_sends_is_refused(far: str) -> None:
    refused = Session(far).open(calls=100, payload_bytes=1400, ptime_us=10_000)["refused"]
    assert "Mbit/s were asked for" in refused


def test_no_free_ports_is_said(far: str) -> None:
    first = Session(far)
    assert len(first.open(calls=100)["accepted"]["media_ports"]) == 100
    second = Session(far).open(calls=100)
    assert "are free; 101 are needed" in second["refused"]


def test_nothing_is_sent_to_an_address_that_did_not_answer(far: str) -> None:
    """A session that starts without binding gets no media, wherever it says it is."""
    session = Session(far)
    accepted = session.open(packets=50)["accepted"]
    session.channel.send({"start": {}})
    assert session.channel.receive_json() == {"started": {"bound": []}}
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as victim:
        victim.bind(("127.0.0.1", 0))
        victim.settimeout(1.5)
        victim.sendto(bytes(40), (far, accepted["media_ports"][0]))
        with pytest.raises(TimeoutError):
            victim.recv(2000)
    session.channel.close()


def test_a_forged_confirmation_binds_nothing(far: str) -> None:
    session = Session(far)
    accepted = session.open()["accepted"]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as guesser:
        guesser.settimeout(0.5)
        confirm = Binding(3, 0, b"guessed cookie!!").serialize(session.key("bind"))
        guesser.sendto(confirm, (far, accepted["media_ports"][0]))
        with pytest.raises(TimeoutError):
            guesser.recv(2000)
    session.channel.send({"start": {}})
    assert session.channel.receive_json() == {"started": {"bound": []}}


def test_a_replayed_or_altered_message_ends_the_session(far: str) -> None:
    session = Session(far)
    session.open()
    session.channel.reseal(Seal("probe", b"another key"), Seal("farend", session.key("control")))
    session.channel.send({"start": {}})
    with pytest.raises((ChannelClosed, WireError)):
        session.channel.receive_json()
    still_works(far)


def test_it_serves_so_many_at_once_and_tells_the_next(far: str) -> None:
    """Sixteen with the key; a seventeenth is told under the key, and let in once one has left."""
    sessions = [Session(far) for _ in range(MAX_SESSIONS)]
    for session in sessions:
        assert "accepted" in session.open()
    with pytest.raises(CallError, match="refused: It serves as many probes as it can") as refused:
        place_calls(far, 0, KEY, PLAN)
    assert refused.value.code == failures.REFUSED
    sessions[0].channel.close()
    rig.eventually(lambda: "accepted" in Session(far).open(), "the seat to be free again")


def test_connections_that_show_no_key_keep_nobody_out(far: str) -> None:
    """Idle ones and ones that drip a byte now and then, more of them than there are seats."""
    with contextlib.ExitStack() as held:
        for n in range(MAX_OPENINGS + 60):
            stranger = held.enter_context(socket.create_connection((far, rig.CONTROL_PORT)))
            if n % 2:
                stranger.send(b"\x00")
        still_works(far)


class Failing:
    """A listening socket that cannot take the first connections: no descriptors are left."""

    def __init__(self, sock: socket.socket) -> None:
        self._sock = sock
        self.failures = [errno.EMFILE, errno.ENFILE, errno.ECONNABORTED]

    def accept(self) -> tuple[socket.socket, Any]:
        if self.failures:
            raise OSError(self.failures.pop(0), "no more")
        return self._sock.accept()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._sock, name)


@contextlib.contextmanager
def short_of_descriptors() -> Iterator[str]:
    """A far end in a thread of this process, that can take nobody at first."""
    address, stop = rig.own_address(), threading.Event()
    config = FarEndConfig(address, first_media_port=22000, last_media_port=22127)
    listener = Failing(listen(config))
    thread = threading.Thread(target=run, args=(listener, config, KEY, stop))
    thread.start()
    try:
        yield address
    finally:
        stop.set()
        thread.join(30)
        listener.close()
    assert listener.failures == []
    assert not thread.is_alive()


def sixteen_and_one_more(address: str) -> None:
    sessions = [Session(address) for _ in range(MAX_SESSIONS)]
    for session in sessions:
        assert "accepted" in session.open()
    assert "as many probes as it can" in Session(address).open()["refused"]
    for session in sessions:
        session.channel.close()


@pytest.mark.parametrize("forks", [True, False])
def test_it_outlives_having_no_descriptors_and_counts_sessions_on_every_system(
    forks: bool, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Where the system does not fork, sessions are threads."""
    monkeypatch.setattr(host, "HERE", replace(host.HERE, forks=forks and host.HERE.forks))
    with short_of_descriptors() as address:
        sixteen_and_one_more(address)
    assert capsys.readouterr().err.count("no connection can be taken now") == 1


@pytest.mark.parametrize("fault", [OSError(errno.ENOSPC, "full"), ValueError("closed")])
def test_it_outlives_that_nothing_can_be_written_of_it(fault: Exception, monkeypatch: pytest.MonkeyPatch) -> None:
    class Full(io.StringIO):
        def write(self, text: str) -> int:
            raise fault

    monkeypatch.setattr(host, "HERE", replace(host.HERE, forks=False))
    monkeypatch.setattr(sys, "stderr", Full())
    with short_of_descriptors() as address:
        sixteen_and_one_more(address)


def test_an_address_in_use_or_not_ours(far: str) -> None:
    for address in (far, "203.0.113.77"):
        with pytest.raises(FarEndError, match="cannot listen"):
            listen(FarEndConfig(address))
    with pytest.raises(FarEndError, match="at least two ports"):
        listen(FarEndConfig("127.0.0.1", 4999, 30000, 30000))
