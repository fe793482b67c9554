"""Asking a far end what a socket's packets arrive from, and how long the way back to a silent socket stays open.

Sockets are opened together and each is silent for a while of its own; then another one asks the far end to send to it
(RFC 5780 §4.6). So the whole takes no longer than the longest silence.
"""

from __future__ import annotations

import secrets
import selectors
import time
from collections.abc import Callable

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError, stun
from tarnfell.wire.kinds.translation import Kept, Mapped, TranslationFacts

SILENCES_S = (5.0, 10.0, 15.0, 20.0, 25.0, 31.0)
TRIES, WAIT_S = 3, 0.7
_LOOK_S = 0.1


def translation(host: str, port: int, key: bytes, go_on: Callable[[], bool] = lambda: True) -> TranslationFacts:
    """What was found out until it was stopped."""
    try:
        channel, family, _ = connect(host, port, key)
    except CallError as error:
        return TranslationFacts(failure=str(error))
    try:
        channel.send({"bindings": {}})
        answer = channel.receive_json()
        if "accepted" not in answer:
            return TranslationFacts(failure=str(answer.get("refused", "it does not know how")))
        ports = [int(one) for one in answer["accepted"]["ports"]]
        return _found(channel, family, ports, go_on)
    except (ChannelClosed, TimeoutError, WireError, KeyError, TypeError, ValueError) as error:
        return TranslationFacts(failure=f"The far end went away: {error}")
    finally:
        channel.close()


def _found(channel: Channel, family: int, ports: list[int], go_on: Callable[[], bool]) -> TranslationFacts:
    own, far = channel.own_address(), channel.peer_address()
    silent = [_Socket(family, own, far) for _ in SILENCES_S]
    asker = _Socket(family, own, far)
    try:
        began = time.monotonic()
        mapped = [one.ask(ports[0]) for one in silent]
        seen = [asker.ask(one) for one in ports]
        told = tuple(
            Mapped(port, one.mapped.address, one.mapped.port) for port, one in zip(ports, seen) if one is not None
        )
        kept = []
        for silence_s, one, bound in zip(SILENCES_S, silent, mapped):
            while (left := began + silence_s - time.monotonic()) > 0 and go_on():
                time.sleep(min(left, _LOOK_S))
            if not go_on():
                break
            if bound is not None:
                kept.append(Kept(silence_s, _heard(asker, one, ports[0], bound.mapped.port)))
        return TranslationFacts(own, asker.port, told, tuple(kept))
    finally:
        for one in [*silent, asker]:
            one.sock.close()


def _heard(asker: _Socket, silent: _Socket, port: int, mapped_port: int) -> bool | None:
    """Whether what the far end sends to a socket that was silent comes through."""
    for _ in range(TRIES):
        if silent.await_answer(asker.send(port, mapped_port)) is not None:
            return True
    return False if asker.ask(port) is not None else None


class _Socket:
    """A UDP socket that speaks STUN with one address."""

    def __init__(self, family: int, own: str, far: str) -> None:
        self.sock = open_media_socket(family, own)
        self._far = far

    @property
    def port(self) -> int:
        return int(self.sock.getsockname()[1])

    def send(self, port: int, response_port: int | None = None) -> bytes:
        """The transaction."""
        transaction = secrets.token_bytes(stun.TRANSACTION_BYTES)
        try:
            self.sock.sendto(stun.padded_request(transaction, response_port), (self._far, port))
        except OSError:
            pass  # then no answer comes either
        return transaction

    def ask(self, port: int) -> stun.Bound | None:
        for _ in range(TRIES):
            answer = self.await_answer(self.send(port))
            if answer is not None:
                return answer
        return None

    def await_answer(self, transaction: bytes) -> stun.Bound | None:
        until = time.monotonic() + WAIT_S
        with selectors.DefaultSelector() as ready:
            ready.register(self.sock, selectors.EVENT_READ)
            while True:
                left = until - time.monotonic()
                # Looked at once more when time is over: this process may have stood still meanwhile.
                ready.select(max(0.0, left))
                answer = self._next(transaction)
                if answer is not None or left <= 0:
                    return answer

    def _next(self, transaction: bytes) -> stun.Bound | None:
        while True:
            try:
                arrival = receive(self.sock)
            except OSError:
                return None  # an error that an earlier packet met
            if arrival is None:
                return None
            try:
                return stun.answer(arrival.data, transaction)
            except WireError:
                continue
