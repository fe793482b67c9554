"""Media addresses prove that they receive before anything is sent to them: the far end's part of it."""

from __future__ import annotations

import hmac
import secrets
import selectors
import socket
import time
from typing import Any

from tarnfell.farend.offer import Refused
from tarnfell.media.channel import Channel
from tarnfell.media.sockets import receive
from tarnfell.wire import WireError
from tarnfell.wire.control import BIND, BINDING_BYTES, BOUND, CHALLENGE, CONFIRM, Binding

LIMIT_S = 20.0


def await_bound(channel: Channel, sockets: list[socket.socket], key: bytes) -> dict[int, Any]:
    """Let media addresses prove that they receive, until the probe says start. Returns them by call."""
    bound: dict[int, Any] = {}
    secret = secrets.token_bytes(16)
    deadline = time.monotonic() + LIMIT_S
    with selectors.DefaultSelector() as ready:
        for call, sock in enumerate(sockets):
            ready.register(sock, selectors.EVENT_READ, call)
        while time.monotonic() < deadline:
            for found, _ in ready.select(0.01):
                _answer_binding(sockets[found.data], found.data, key, secret, bound)
            if channel.waiting():
                message = channel.receive_json()
                if "start" in message:
                    return bound
                raise Refused("The session was given up before it started.")
    raise Refused("The probe did not start the run in time.")


def _answer_binding(sock: socket.socket, call: int, key: bytes, secret: bytes, bound: dict[int, Any]) -> None:
    for _ in range(16):
        try:
            arrival = receive(sock)
        except OSError:
            return
        if arrival is None:
            return
        try:
            step = Binding.parse(arrival.data, key)
        except WireError:
            continue
        cookie = hmac.digest(secret, repr((arrival.source, call)).encode(), "sha256")[:16]
        answer: int | None = None
        if step.step == BIND and step.call == call:
            answer = CHALLENGE
        elif step.step == CONFIRM and step.call == call and hmac.compare_digest(step.cookie, cookie):
            bound[call] = arrival.source
            answer = BOUND
        if answer is not None:
            packet = Binding(answer, call, cookie).serialize(key)
            assert len(packet) == BINDING_BYTES  # an answer is never larger than the question
            try:
                sock.sendto(packet, arrival.source)
            except OSError:
                return
