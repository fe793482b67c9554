"""What a browser's page and a far end say to each other over WebRTC data channels (RFC 8831), and how it is asked for.

Where no UDP passes, the page says the same over one WebSocket (RFC 6455) to the web server: binary messages are
``media``, text is ``control``, and nothing is lost or comes out of order, only late.

Two channels: ``media`` is unordered and sends nothing again, so that what is lost stays lost; ``control`` is reliable
and carries JSON. Of ``media`` each message is one packet of a call, or one step of a time-stamp exchange. Numbers are
in network order, times in microseconds of Unix time as an IEEE 754 double, which is what a browser has.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from tarnfell.wire import WireError
from tarnfell.wire.kinds.fields import bounded

MEDIA, CONTROL = "media", "control"
"""Labels of the channels."""
SOCKET_PATH = "/socket/"
"""Before the token, in the address of a WebSocket."""
PACKET, QUESTION, ANSWER = 1, 2, 3
MOST_CALLS = 20
MAX_SECONDS = 120.0
MAX_OFFER = 32_000
_PACKET = struct.Struct("!BBId")
_QUESTION = struct.Struct("!BxId")
_ANSWER = struct.Struct("!BxIddd")
PACKET_BYTES = _PACKET.size
"""Of a packet without its filling."""
UNDER_MESSAGE = 20 + 8 + 37 + 12 + 16
"""Bytes under a message on the wire: IPv4, UDP, a DTLS record (AES-GCM, RFC 6347), SCTP's header and a DATA chunk."""
MAX_FILLING = 1100
PIECE_BYTES = 4 << 20
"""Of a stream that fills the line by way of the web server; a piece up may be smaller."""


@dataclass(frozen=True)
class CallsAsked:
    """Calls with a browser, as both ends place them."""

    calls: int = bounded(1, MOST_CALLS)
    interval_ms: int = bounded(10, 60)
    filling: int = bounded(0, MAX_FILLING)
    """Bytes after a packet's own, so that it is as large as the codec's."""
    seconds: float = bounded(1.0, MAX_SECONDS)

    @property
    def packets(self) -> int:
        """Of one call, each way."""
        return round(self.seconds * 1000 / self.interval_ms)


@dataclass(frozen=True)
class BrowserCalls(CallsAsked):
    """Asked of a far end on its control connection: calls with a browser, whose offer comes along."""

    offer: str = bounded(1, MAX_OFFER)
    """SDP (RFC 8866)."""
    token: str = bounded(32, 128)
    """By which the far end keeps its half of the packets."""
    reached_at: str = bounded(most=100, default="")
    """The address by which browsers reach this far end, which behind translation is not its own."""


@dataclass(frozen=True)
class Packet:
    """One packet of a call."""

    call: int
    """From 0."""
    sequence_number: int
    sent_us: float

    @staticmethod
    def parse(data: bytes) -> Packet:
        """Raises WireError."""
        if len(data) < _PACKET.size or data[0] != PACKET:
            raise WireError("Browser media: not a packet of a call.")
        _, call, number, sent_us = _PACKET.unpack_from(data)
        return Packet(call, number, sent_us)

    def serialize(self, filling: int = 0) -> bytes:
        return _PACKET.pack(PACKET, self.call, self.sequence_number, self.sent_us) + bytes(filling)


@dataclass(frozen=True)
class Question:
    """The browser's step of an exchange of time stamps."""

    number: int
    t1_us: float

    @staticmethod
    def parse(data: bytes) -> Question:
        """Raises WireError."""
        if len(data) != _QUESTION.size or data[0] != QUESTION:
            raise WireError("Browser media: not a question for the time.")
        _, number, t1_us = _QUESTION.unpack(data)
        return Question(number, t1_us)

    def serialize(self) -> bytes:
        return _QUESTION.pack(QUESTION, self.number, self.t1_us)

    def answered(self, t2_us: float, t3_us: float) -> bytes:
        return _ANSWER.pack(ANSWER, self.number, self.t1_us, t2_us, t3_us)
