"""A run that was broken off: the far end keeps its half on disk, and the probe joins it to its own."""

from __future__ import annotations

import os
import socket
import threading
import time
from pathlib import Path

import pytest

from tarnfell.farend import halves as kept
from tarnfell.farend.halves import Halves
from tarnfell.probe import halves
from tarnfell.probe.call import place_calls
from tarnfell.probe.connect import CallError
from tarnfell.probe.halves import NotKept, Ticket, _joined, completed
from tarnfell.probe.works.calls import pack_run
from tarnfell.wire.kinds.calls import CallPlan, LiveSecond
from tarnfell.wire.record import Record, pack_column, split_parts
from tests import rig

TOKEN = "ab" * 32
PLAN = CallPlan(calls=2, packets=1000, ptime_us=20_000, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=46)


class Relay:
    """A TCP way to the far end that can be cut; media does not go through it."""

    def __init__(self, host: str, port: int) -> None:
        self._target = (host, port)
        # At the far end's own address, where media goes as well.
        self._listener = socket.create_server((host, 0))
        self.port = self._listener.getsockname()[1]
        self._open: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                one, _ = self._listener.accept()
            except OSError:
                return
            other = socket.create_connection(self._target)
            self._open += [one, other]
            for source, sink in ((one, other), (other, one)):
                threading.Thread(target=self._pass, args=(source, sink), daemon=True).start()

    def _pass(self, source: socket.socket, sink: socket.socket) -> None:
        try:
            while data := source.recv(65536):
                sink.sendall(data)
        except OSError:
            pass

    def cut(self) -> None:
        for sock in self._open:
            try:
                sock.shutdown(socket.SHUT_RDWR)
            except OSError:
                pass
            sock.close()
        self._listener.close()


def test_both_halves_of_a_broken_run_are_joined(tmp_path: Path) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        relay = Relay(far, rig.CONTROL_PORT)

        def watch(live: LiveSecond) -> bool:
            if live.second == 3:
                relay.cut()
            return True

        result = place_calls(far, relay.port, rig.KEY.encode(), PLAN, watch)
        assert result.cut is not None
        assert result.half_token is not None
        assert all("half" in call.meta for call in result.calls)
        run = pack_run(result)
        ticket = Ticket(far, rig.CONTROL_PORT, rig.KEY, result.half_token, 0.0)
        deadline = time.monotonic() + 20
        while True:
            try:
                whole = completed(run, ticket)
                break
            except NotKept:
                assert time.monotonic() < deadline
                time.sleep(0.2)
        head, *calls = (Record.parse(part) for part in split_parts(whole))
        assert head.meta["cut"]["code"] == result.cut.code
        assert "far_end" in head.meta["self_check"]
        for call in calls:
            assert "half" not in call.meta
            # About three seconds went up and came down before the cut.
            assert 100 < len(call.values("up.arrival_seq")) <= len(call.values("up.sent_us"))
            sent, arrived = call.values("down.sent_us"), call.values("down.arrival_seq")
            assert 100 < len(arrived) <= len(sent)
            # Nothing the far end sent after the cut counts; what arrived stays, however late a busy machine sent it.
            assert len(sent) == max(arrived) + 1 or sent[-1] - sent[0] <= (result.cut.after_s + 0.1) * 1e6
        # It stays until its time is over: the answer may have been lost.
        assert completed(run, ticket) == whole
        with pytest.raises(NotKept):
            completed(run, ticket._replace(token="cd" * 32))
    with pytest.raises(CallError):
        completed(run, ticket)


@pytest.mark.parametrize(
    ("times", "seconds", "least", "kept_times"),
    [
        # Not sent is 0: the first time is of the first that was.
        ([0, 1_000_000, 1_020_000, 3_000_000, 3_000_001], 2.0, 0, [0, 1_000_000, 1_020_000, 3_000_000]),
        ([1_000_000, 1_020_000, 3_000_001, 0, 3_040_000], 2.0, 4, [1_000_000, 1_020_000, 3_000_001, 0]),
        ([1_000_000, 1_020_000], 2.0, 0, [1_000_000, 1_020_000]),
        ([0, 0], 2.0, 1, [0, 0]),
    ],
)
def test_what_the_far_end_sent_counts_until_this_end_stopped_listening(
    times: list[int], seconds: float, least: int, kept_times: list[int]
) -> None:
    assert list(halves._until(pack_column("sent_us", times), seconds, least).values()) == kept_times


def test_a_run_cut_before_the_far_end_said_anything_tells_that_nothing_is_known(tmp_path: Path) -> None:
    far = rig.own_address()
    with rig.far_end(tmp_path, far):
        relay = Relay(far, rig.CONTROL_PORT)
        threading.Timer(0.4, relay.cut).start()
        result = place_calls(far, relay.port, rig.KEY.encode(), PLAN, lambda live: True)
    assert result.cut is not None
    halves = [call.meta["half"] for call in result.calls]
    # A busy machine may hear the first second before the cut.
    if result.cut.after_s < 1:
        assert [(half["reached"], half["received"], half["stream"]) for half in halves] == [(0, 0, 0), (0, 0, 1)]


def test_a_stream_the_far_end_had_nothing_of_stays_as_it_is() -> None:
    ours = Record({"half": {"seconds": 1.0, "reached": 0, "received": 0, "stream": 3}})
    assert _joined(ours, {0: {}}) is ours
    # As an older probe wrote it.
    assert _joined(Record({"half": {"seconds": 1.0}}), {0: {}}).meta == {"half": {"seconds": 1.0}}


def test_halves_are_bounded_in_number_size_and_age(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept, "MOST_FILES", 3)
    folder = Halves(tmp_path / "halves")
    for i in range(5):
        assert folder.keep(f"{i:064x}", bytes([i]) * 10)
        os.utime(tmp_path / "halves" / f"{i:064x}.half", (time.time() - 100 + i,) * 2)
    assert folder.keep(TOKEN, b"x")
    assert [folder.take(f"{i:064x}") is not None for i in range(5)] == [False, False, False, True, True]
    os.utime(tmp_path / "halves" / f"{4:064x}.half", (0, 0))
    folder.keep("ef" * 32, b"y")
    assert folder.take(f"{4:064x}") is None
    monkeypatch.setattr(kept, "MOST_BYTES", 100)
    monkeypatch.setattr(kept, "MOST_FILES", 256)
    assert not folder.keep("01" * 32, bytes(101))
    for i in range(3):
        assert folder.keep(f"{90 + i:064x}", bytes(40))
        os.utime(tmp_path / "halves" / f"{90 + i:064x}.half", (time.time() + i,) * 2)
    assert folder.keep("23" * 32, bytes(10))
    assert [folder.take(f"{90 + i:064x}") is not None for i in range(3)] == [False, True, True]
    assert not folder.keep("../../etc/passwd", b"z")
    assert folder.take("../../etc/passwd") is None
    assert (tmp_path / "halves").stat().st_mode & 0o077 == 0


def test_a_disk_that_refuses_fails_no_session(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    assert not Halves(tmp_path / "file").keep(TOKEN, b"x")


def test_what_came_and_is_not_told_as_sent_is_left_out() -> None:
    """A page that is closed says nothing of what it sent last."""
    far = {"arrival_seq": pack_column("", [0, 2, 1, 3, 4, 2]), "arrival_us": pack_column("", [10, 30, 31, 40, 50, 51])}

    def told(sent: int | None) -> list[list[int]]:
        column = None if sent is None else pack_column("", range(sent))
        return [list(halves._arrived(far, column)[f"up.arrival_{name}"].values()) for name in ("seq", "us")]

    assert told(3) == [[0, 2, 1, 2], [10, 30, 31, 51]]
    assert told(5) == told(None) == [[0, 2, 1, 3, 4, 2], [10, 30, 31, 40, 50, 51]]
