"""The way back: a far end looks for the hops to this probe, which sends back what of it arrives."""

from __future__ import annotations

import selectors
import socket
import time
from collections.abc import Callable

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.probe.binding import bind
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fields import read_known
from tarnfell.wire.kinds.path import PathFacts

LONGEST_S = 30.0
_LOOK_S = 0.2
_MOST_BACK = 1000
"""Packets that are sent back: more than a far end has any use for."""


def way_back(host: str, port: int, key: bytes, dscp: int, go_on: Callable[[], bool] = lambda: True) -> PathFacts | None:
    """None where the far end does not know how, cannot, or went away; or where its packets do not come through."""
    try:
        channel, family, purpose = connect(host, port, key)
    except CallError:
        return None
    try:
        channel.send({"way_back": {"dscp": dscp}})
        answer = channel.receive_json()
        if "accepted" not in answer:
            return None
        (media_port,) = answer["accepted"]["media_ports"]
        with open_media_socket(family, channel.own_address()) as sock:
            sock.connect((channel.peer_address(), int(media_port)))
            if not bind([sock], purpose("bind")):
                return None
            channel.send({"start": {}})
            return _found(channel, sock, go_on)
    except (ChannelClosed, TimeoutError, WireError, OSError, KeyError, TypeError, ValueError):
        return None
    finally:
        channel.close()


def _found(channel: Channel, sock: socket.socket, go_on: Callable[[], bool]) -> PathFacts | None:
    until, left = time.monotonic() + LONGEST_S, _MOST_BACK
    with selectors.DefaultSelector() as ready:
        ready.register(sock, selectors.EVENT_READ)
        ready.register(channel.socket, selectors.EVENT_READ)
        while time.monotonic() < until and go_on():
            for found, _ in ready.select(_LOOK_S):
                if found.fileobj is channel.socket:
                    told = channel.receive_json()
                    return read_known(PathFacts, told["path"]) if "path" in told else None
                arrival = receive(sock)
                if arrival is not None and left:
                    left -= 1
                    sock.send(arrival.data)
    return None
