"""The far end of one TCP stream that fills the line: it takes what comes, or sends noise for as long as it was asked.

Only whoever has shown the key comes here, over a connection that proves its address; the time is bounded, and so are
the streams at once (daemon.py).
"""

from __future__ import annotations

import time
from dataclasses import asdict, dataclass
from typing import Literal

from tarnfell.media import bulk, tcp
from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.wire.kinds.fields import bounded
from tarnfell.wire.kinds.fill import MAX_SECONDS

_GRACE_S = 15.0
"""A stream is opened in the rest before it is wanted, and what is on its way when it ends takes its time."""
_TELL_S = 0.5


@dataclass(frozen=True)
class Asked:
    """One stream, as seen from the probe."""

    way: Literal["up", "down"]
    seconds: float = bounded(0.5, MAX_SECONDS)
    kbps: int = bounded(0, 10_000_000, default=0)
    """At most; 0: as fast as it goes."""


def fill(channel: Channel, asked: Asked) -> None:
    """Raises ChannelClosed or TimeoutError when the probe goes away."""
    tcp.prepare(channel.socket)
    channel.send({"accepted": {"congestion": tcp.congestion_of(channel.socket)}})
    if asked.way == "up":
        _take(channel, asked.seconds)
    else:
        _give(channel, asked)


def _take(channel: Channel, seconds: float) -> None:
    """Bytes are counted and dropped; about twice a second the probe is told of each slot that has passed."""
    slots, told = bulk.Slots(), 0
    room = bytearray(4 * bulk.BLOCK_BYTES)
    end = time.monotonic() + seconds + _GRACE_S
    tell_at = 0.0
    while time.monotonic() < end:
        if channel.waiting(_TELL_S):
            try:
                count = channel.socket.recv_into(room)
            except OSError:
                return
            if not count:
                return
            slots.add(count)
        if time.monotonic() >= tell_at and len(slots.bytes) - 1 > told:
            whole = len(slots.bytes) - 1  # the last slot is still filling
            channel.send({"got": slots.bytes[told:whole]})
            told, tell_at = whole, time.monotonic() + _TELL_S


def _give(channel: Channel, asked: Asked) -> None:
    """The probe says when. The stream ends with what the system tells of it."""
    if "go" not in channel.receive_json(_GRACE_S):
        return
    try:
        bulk.pour(channel.socket, asked.seconds, asked.kbps, lambda: True)
    except OSError as error:
        raise ChannelClosed(str(error)) from None
    facts = tcp.facts_of(channel.socket)
    channel.socket.settimeout(_GRACE_S)
    channel.send_last({"sent": asdict(facts)})
