"""The way from the far end back to a probe, hop by hop: told to the probe on the control connection.

The flow is that of one media address which has proved that it receives; what reaches it, the probe sends back.
"""

from __future__ import annotations

import time
from typing import Any

from tarnfell.farend.binding import await_bound
from tarnfell.farend.offer import Offer, Refused, open_sockets
from tarnfell.media.channel import Channel
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.tracer import path_of
from tarnfell.wire.kinds.fields import plain

ROUNDS = 3
LONGEST_S = 20.0


def trace_back(channel: Channel, offer: Offer, asked: Any, key: bytes) -> None:
    """Raises Refused, ChannelClosed, WireError or TimeoutError."""
    dscp = asked.get("dscp") if isinstance(asked, dict) else None
    if not isinstance(dscp, int) or isinstance(dscp, bool) or not 0 <= dscp <= 63:
        raise Refused("The request for the way back names no DSCP from 0 to 63.")
    (sock,) = open_sockets(offer, [dscp])
    with sock:
        channel.send({"accepted": {"media_ports": [sock.getsockname()[1]]}})
        bound = await_bound(channel, [sock], key)
        if 0 not in bound:
            raise Refused("No packet of the probe came in on the media port.")
        sock.connect(bound[0])
        until = time.monotonic() + LONGEST_S
        address, port = str(bound[0][0]).partition("%")[0], int(bound[0][1])
        try:
            found = path_of(sock, address, port, dscp, ROUNDS, lambda: time.monotonic() < until)
        except CannotAsk as error:
            raise Refused(str(error)) from None
        channel.send({"path": plain(found)})
