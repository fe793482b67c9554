"""Signalling with a far end: its own word of each message is waited for, and taken for the message that it is of."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator

import pytest

from tarnfell.media.channel import Channel
from tarnfell.probe.asking.signalling import _WithFarEnd
from tarnfell.wire.control import Seal

KEY = b"k" * 32
OPTIONS, BYE = "OPTIONS sip:far SIP/2.0\r\n\r\n", "BYE sip:far SIP/2.0\r\n\r\n"


@pytest.fixture
def ends() -> Iterator[tuple[_WithFarEnd, Channel]]:
    with socket.create_server(("127.0.0.1", 0)) as server:
        near = Channel(socket.create_connection(server.getsockname()), Seal("probe", KEY), Seal("farend", KEY))
        far = Channel(server.accept()[0], Seal("farend", KEY), Seal("probe", KEY))
    talk = _WithFarEnd(near, socket.AF_INET, "udp", 5060, "", time.monotonic(), False)
    yield talk, far
    talk.close()
    near.close()
    far.close()


def test_what_the_far_end_heard_is_waited_for_while_it_is_owed(ends: tuple[_WithFarEnd, Channel]) -> None:
    talk, far = ends
    talk.on_sent(OPTIONS.encode())
    late = threading.Timer(0.2, far.send, ({"transport": "udp", "heard": OPTIONS},))
    late.start()
    talk.look_beside(30)
    late.join()
    assert [(one.way, one.sent, one.arrived) for one in talk.messages] == [("up", OPTIONS, OPTIONS)]


def test_what_is_told_of_another_transport_or_message_is_not_taken_for_this_one(
    ends: tuple[_WithFarEnd, Channel],
) -> None:
    talk, far = ends
    talk.on_sent(OPTIONS.encode())
    for told in (
        {"transport": "tcp", "heard": OPTIONS},
        {"transport": "udp", "heard": BYE},
        {"transport": "udp", "heard": OPTIONS},
    ):
        far.send(told)
    talk.look_beside(30)
    assert [one.arrived for one in talk.messages if one.sent == OPTIONS] == [OPTIONS]
