"""The rounds of packets along a flow, by a flow that answers as a test says."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator

import pytest

from tarnfell.media.tracing import tracer
from tarnfell.media.tracing.flows import Heard
from tarnfell.wire.kinds.path import Method

FAR, ROUTER = "203.0.113.5", "203.0.113.1"


class Told:
    """A flow of two hops, whose answers to the first packets never come."""

    address, port, dscp, sees_marking = FAR, 33_434, 0, False
    method: Method = "udp"

    def __init__(self, silent: int) -> None:
        self._silent = silent
        self._waiting: list[int] = []
        self._own, self._other = socket.socketpair()

    def sockets(self) -> list[socket.socket]:
        return [self._own]

    def send(self, ttl: int) -> None:
        if self._silent:
            self._silent -= 1
            return
        self._waiting.append(ttl)
        self._other.send(b".")

    def take(self) -> Iterator[Heard]:
        self._own.recv(1000)
        while self._waiting:
            ttl = self._waiting.pop(0)
            yield Heard(ttl, ROUTER if ttl == 1 else FAR, time.time_ns(), None, ttl > 1)

    def close(self) -> None:
        self._own.close()
        self._other.close()


@pytest.mark.parametrize(("silent", "asked"), [(0, 3), (6, 3)])
def test_a_way_is_as_long_as_its_shortest_answer_in_any_round(
    monkeypatch: pytest.MonkeyPatch, silent: int, asked: int
) -> None:
    """Whatever the first round missed, nothing stands behind the address itself."""
    monkeypatch.setitem(tracer.FLOWS, "udp", lambda *_: Told(silent))
    found = tracer.path(FAR, 33_434, rounds=3, wait_s=0.05, method="udp")
    assert [(hop.ttl, hop.address) for hop in found.hops] == [(1, ROUTER), (2, FAR)]
    assert found.reached
    assert found.hops[0].sent == asked
