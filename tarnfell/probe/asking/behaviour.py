"""How a translator on the way behaves, asked of a STUN server that has two addresses (RFC 5780 §4.3 and §4.4)."""

from __future__ import annotations

import secrets
import selectors
import socket
import time
from typing import Any

from tarnfell.wire import WireError, stun
from tarnfell.wire.kinds.check import Behaviour, Dependence

TRIES, WAIT_S = 3, 0.5


def behaviour(family: int, server: Any) -> Behaviour | None:
    """None where the server does not answer, or has no second address. Takes up to TRIES × WAIT_S × 4 seconds.

    What is let in is asked first and by a socket of its own: it must not have sent to the second address before.
    """
    with _Asker(family) as asker:
        first = asker.ask(server)
        if first is None or first.other is None:
            return None
        filtering: Dependence = "address-and-port"
        if asker.ask(server, change_address=True, change_port=True):
            filtering = "none"
        elif asker.ask(server, change_port=True):
            filtering = "address"
    return Behaviour(_mapping(family, server, first.other), filtering)


def _mapping(family: int, server: Any, other: stun.Endpoint) -> Dependence | None:
    with _Asker(family) as asker:
        here = asker.ask(server)
        there = asker.ask((other.address, server[1]))
        if here is None or there is None:
            return None
        if there.mapped == here.mapped:
            return "none"
        elsewhere = asker.ask((other.address, other.port))
        if elsewhere is None:
            return None
        return "address" if elsewhere.mapped == there.mapped else "address-and-port"


class _Asker:
    """One socket: all its questions come from the same port."""

    def __init__(self, family: int) -> None:
        self._sock = socket.socket(family, socket.SOCK_DGRAM)
        self._sock.setblocking(False)

    def __enter__(self) -> _Asker:
        return self

    def __exit__(self, *_: object) -> None:
        self._sock.close()

    def ask(self, server: Any, change_address: bool = False, change_port: bool = False) -> stun.Bound | None:
        for _ in range(TRIES):
            transaction = secrets.token_bytes(stun.TRANSACTION_BYTES)
            try:
                self._sock.sendto(stun.request(transaction, change_address, change_port), tuple(server[:2]))
            except OSError:
                continue  # what an earlier packet met, or no way there
            answer = self._await(transaction, time.monotonic() + WAIT_S)
            if answer is not None:
                return answer
        return None

    def _await(self, transaction: bytes, until: float) -> stun.Bound | None:
        with selectors.DefaultSelector() as ready:
            ready.register(self._sock, selectors.EVENT_READ)
            while True:
                left = until - time.monotonic()
                if ready.select(max(0.0, left)):
                    try:
                        return stun.answer(self._sock.recv(2048), transaction)
                    except (OSError, WireError):
                        continue
                if left <= 0:
                    return None
