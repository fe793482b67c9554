"""What a probe's packets arrive from, told by STUN on two ports: the far end's part in finding translation.

Only while a session that has shown the key lasts, and never more bytes out than came in: a question shorter than an
answer is left alone. With RESPONSE-PORT (RFC 5780 §7.5) the answer goes to another port of the very address that asked.
"""

from __future__ import annotations

import selectors
import socket
import time
from collections.abc import Sequence

from tarnfell.media.channel import Channel
from tarnfell.media.sockets import receive
from tarnfell.wire import WireError, stun

LONGEST_S = 120.0
_AT_ONCE = 64


def tell_bindings(channel: Channel, sockets: Sequence[socket.socket]) -> None:
    """Until the probe says that it has done, and is told what ports heard it; or for LONGEST_S.

    Raises ChannelClosed, WireError, TimeoutError.
    """
    heard: set[int] = set()
    try:
        channel.send({"accepted": {"ports": [sock.getsockname()[1] for sock in sockets]}})
        end = time.monotonic() + LONGEST_S
        with selectors.DefaultSelector() as ready:
            for sock in sockets:
                ready.register(sock, selectors.EVENT_READ)
            ready.register(channel.socket, selectors.EVENT_READ)
            while time.monotonic() < end:
                for found, _ in ready.select(1.0):
                    if found.fileobj is channel.socket:
                        channel.receive_json()
                        channel.send({"heard": sorted(heard)})
                        return
                    _answer_waiting(found.fileobj, heard)  # type: ignore[arg-type]
    finally:
        for sock in sockets:
            sock.close()


def _answer_waiting(sock: socket.socket, heard: set[int]) -> None:
    for _ in range(_AT_ONCE):
        try:
            arrival = receive(sock)
        except OSError:
            return
        if arrival is None:
            return
        try:
            asked = stun.asked(arrival.data)
        except WireError:
            continue
        heard.add(sock.getsockname()[1])
        address, port, *rest = arrival.source
        told = stun.success(asked.transaction, stun.Endpoint(address.partition("%")[0], port))
        if len(told) > len(arrival.data):
            continue
        try:
            sock.sendto(told, (address, asked.response_port or port, *rest))
        except OSError:
            return
