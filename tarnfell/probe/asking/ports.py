"""Ports all over the far end's media range, each asked by STUN: which answer, and which the far end was heard on."""

from __future__ import annotations

import secrets
import selectors
import socket
import time
from collections.abc import Callable

from tarnfell.media.channel import ChannelClosed
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError, stun
from tarnfell.wire.kinds.check import PortsFacts

TRIES, WAIT_S = 3, 0.7


def ports(host: str, port: int, key: bytes, go_on: Callable[[], bool] = lambda: True) -> PortsFacts | None:
    """None where the far end does not know how, or went away."""
    try:
        channel, family, _ = connect(host, port, key)
    except CallError:
        return None
    try:
        channel.send({"bindings": {"spread": True}})
        answer = channel.receive_json()
        if "accepted" not in answer:
            return None
        asked = tuple(int(one) for one in answer["accepted"]["ports"])
        answered = _answered(family, channel.own_address(), channel.peer_address(), asked, go_on)
        channel.send({"done": {}})
        heard = channel.receive_json().get("heard")
        return PortsFacts(asked, tuple(sorted(answered)), tuple(int(one) for one in heard) if heard else ())
    except (ChannelClosed, TimeoutError, WireError, OSError, KeyError, TypeError, ValueError):
        return None
    finally:
        channel.close()


def _answered(family: int, own: str, far: str, asked: tuple[int, ...], go_on: Callable[[], bool]) -> set[int]:
    """By one socket; a port that is silent is asked again."""
    answered: set[int] = set()
    transactions: dict[bytes, int] = {}
    with open_media_socket(family, own) as sock, selectors.DefaultSelector() as ready:
        ready.register(sock, selectors.EVENT_READ)
        for _ in range(TRIES):
            for one in set(asked) - answered:
                transaction = secrets.token_bytes(stun.TRANSACTION_BYTES)
                transactions[transaction] = one
                try:
                    sock.sendto(stun.padded_request(transaction), (far, one))
                except OSError:
                    pass  # what an earlier packet met, or no way there: then no answer comes either
            until = time.monotonic() + WAIT_S
            while len(answered) < len(asked) and go_on():
                left = until - time.monotonic()
                # Looked at once more when time is over: this process may have stood still meanwhile.
                ready.select(max(0.0, left))
                _take(sock, transactions, answered)
                if left <= 0:
                    break
    return answered


def _take(sock: socket.socket, transactions: dict[bytes, int], answered: set[int]) -> None:
    while True:
        try:
            arrival = receive(sock)
        except OSError:
            continue  # an error that an earlier packet met
        if arrival is None:
            return
        transaction = arrival.data[8:20]
        if transaction in transactions and arrival.source[1] == transactions[transaction]:
            try:
                stun.answer(arrival.data, transaction)
            except WireError:
                continue
            answered.add(transactions[transaction])
