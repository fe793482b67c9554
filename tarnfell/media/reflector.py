"""Answers to time stamps (RFC 8762), as Session-Reflector."""

from __future__ import annotations

import socket
import time

from tarnfell.media.sockets import Arrival
from tarnfell.wire import ntp, stamp


def reflect(sock: socket.socket, key: bytes, arrival: Arrival, number: int) -> None:
    """Answer one packet as the ``number``-th. Raises WireError for what does not carry the key."""
    asked = stamp.SenderPacket.parse(arrival.data, key)
    answer = stamp.ReflectorPacket(
        sequence_number=number & 0xFFFFFFFF,
        timestamp=ntp.from_unix_ns(time.time_ns()),
        receive_timestamp=ntp.from_unix_ns(arrival.time_ns),
        sender_sequence_number=asked.sequence_number,
        sender_timestamp=asked.timestamp,
        sender_ttl=arrival.ttl or 0,
        session_id=asked.session_id,
        sender_error_estimate=asked.error_estimate,
    )
    # As large as what came, and never larger: padding is carried back (RFC 8972 §4.1).
    back = answer.serialize(key) + stamp.extensions_of(arrival.data, key)
    try:
        sock.sendto(back, arrival.source)
    except OSError:
        pass  # an unanswered exchange is a lost one, which the other side sees
