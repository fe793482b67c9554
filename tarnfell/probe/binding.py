"""Each media address proves to the far end that it receives, before anything is sent to it."""

from __future__ import annotations

import selectors
import socket
import time

from tarnfell.media.sockets import receive
from tarnfell.wire import WireError
from tarnfell.wire.control import BIND, BOUND, CHALLENGE, CONFIRM, Binding

LIMIT_S = 3.0
_RETRY_S = 0.1


def bind(sockets: list[socket.socket], key: bytes) -> set[int]:
    """Prove to the far end that each media address receives. Returns the calls that could."""
    calls = list(range(len(sockets)))
    step = {i: Binding(BIND, i) for i in calls}
    deadline = time.monotonic() + LIMIT_S
    ask = 0.0
    with selectors.DefaultSelector() as ready:
        for call in calls:
            ready.register(sockets[call], selectors.EVENT_READ, call)
        while step and time.monotonic() < deadline:
            if time.monotonic() >= ask:
                for call, packet in step.items():
                    _send_quietly(sockets[call], packet.serialize(key))
                ask = time.monotonic() + _RETRY_S
            for found, _ in ready.select(0.01):
                call = found.data
                answer = _binding_answer(sockets[call], key)
                if answer is None or call not in step:
                    continue
                if answer.step == CHALLENGE:
                    step[call] = Binding(CONFIRM, call, answer.cookie)
                    _send_quietly(sockets[call], step[call].serialize(key))
                elif answer.step == BOUND:
                    del step[call]
    return set(calls) - set(step)


def _send_quietly(sock: socket.socket, data: bytes) -> None:
    try:
        sock.send(data)
    except OSError:
        pass  # asked again in a moment; a port that stays closed is reported


def _binding_answer(sock: socket.socket, key: bytes) -> Binding | None:
    try:
        arrival = receive(sock)
        return Binding.parse(arrival.data, key) if arrival else None
    except (OSError, WireError):
        return None
