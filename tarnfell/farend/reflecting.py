"""Time stamps answered for as long as a probe wishes: the far end's part of a watch.

The control connection carries the key and nothing but signs of life; when it ends, or falls silent, so does this.
"""

from __future__ import annotations

import selectors
import socket
import time

from tarnfell.media.channel import Channel
from tarnfell.media.host import clock_id
from tarnfell.media.reflector import reflect
from tarnfell.media.sockets import receive
from tarnfell.wire import WireError

SILENT_S = 90.0
"""The probe speaks four times a minute. Shorter outages of the line are the watch's to see through."""
_AT_ONCE = 64


def answer_stamps(channel: Channel, sock: socket.socket, key: bytes) -> None:
    """Until the probe says ``finish``, or nothing. Raises ChannelClosed, WireError, TimeoutError."""
    channel.send({"accepted": {"stamp_port": sock.getsockname()[1], "clock_id": clock_id()}})
    number = 0
    last_message_s = time.monotonic()
    with selectors.DefaultSelector() as ready:
        ready.register(sock, selectors.EVENT_READ)
        ready.register(channel.socket, selectors.EVENT_READ)
        while time.monotonic() - last_message_s < SILENT_S:
            for found, _ in ready.select(1.0):
                if found.fileobj is sock:
                    number = _answer_waiting(sock, key, number)
                    continue
                message = channel.receive_json()
                if "finish" in message:
                    return
                last_message_s = time.monotonic()
                channel.send({"alive": {"answered": number}})


def _answer_waiting(sock: socket.socket, key: bytes, number: int) -> int:
    for _ in range(_AT_ONCE):
        try:
            arrival = receive(sock)
        except OSError:
            continue  # an answer before met a closed port
        if arrival is None:
            break
        try:
            reflect(sock, key, arrival, number)
        except WireError:
            continue  # somebody else's
        number += 1
    return number
