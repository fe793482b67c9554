"""The control connection as a socket: sealed frames over TCP, with time limits."""

from __future__ import annotations

import json
import select
import socket
from collections.abc import Mapping

from tarnfell.wire import Unchecked, WireError
from tarnfell.wire.control import BINARY_KIND, HEAD_BYTES, JSON_KIND, MAC_BYTES, FrameHead, Seal, parse_json

_TIMEOUT_S = 10.0
_LAST_BODY_BYTES = 300
LAST_BYTES = HEAD_BYTES + _LAST_BODY_BYTES + MAC_BYTES
_UNANSWERED_MS = 40_000
"""What was sent and not acknowledged for so long ends the connection, so that nobody sends to a dead line."""


class ChannelClosed(ConnectionError):
    """The other end went away."""


class Channel:
    """Sealed messages in both directions. Errors are ChannelClosed, WireError or TimeoutError."""

    def __init__(self, sock: socket.socket, outgoing: Seal, incoming: Seal) -> None:
        self._sock = sock
        self._out = outgoing
        self._in = incoming
        sock.settimeout(_TIMEOUT_S)
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        if hasattr(socket, "TCP_USER_TIMEOUT"):
            sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, _UNANSWERED_MS)

    def reseal(self, outgoing: Seal, incoming: Seal) -> None:
        """Use session keys from here on."""
        self._out, self._in = outgoing, incoming

    def send(self, message: Mapping[str, object]) -> None:
        self._send(JSON_KIND, json.dumps(message, separators=(",", ":")).encode())

    def send_last(self, message: Mapping[str, object]) -> None:
        """The last words after a stream of other bytes: of a length that the other end knows, ``LAST_BYTES``."""
        body = json.dumps(message, separators=(",", ":")).encode()
        assert len(body) <= _LAST_BODY_BYTES
        self._send(JSON_KIND, body.ljust(_LAST_BODY_BYTES))

    def open_last(self, tail: bytes) -> Unchecked:
        """What ``send_last`` said, from the last LAST_BYTES of the stream. Raises WireError."""
        if len(tail) != LAST_BYTES:
            raise WireError("Control connection: the stream ended without last words.")
        return parse_json(self._in.open(JSON_KIND, tail[HEAD_BYTES:]))

    def send_bytes(self, body: bytes) -> None:
        self._send(BINARY_KIND, body)

    def _send(self, kind: int, body: bytes) -> None:
        try:
            self._sock.sendall(self._out.frame(kind, body))
        except OSError as error:
            raise ChannelClosed(str(error)) from None

    def waiting(self, timeout_s: float = 0.0) -> bool:
        """Whether a message, or the end of the connection, is there to be received."""
        return bool(select.select([self._sock], [], [], timeout_s)[0])

    def receive(self, timeout_s: float = _TIMEOUT_S) -> Unchecked | bytes:
        """The next message: a dict, or bytes for a binary one."""
        self._sock.settimeout(timeout_s)
        head = FrameHead.parse(self._exactly(HEAD_BYTES))
        body = self._in.open(head.kind, self._exactly(head.length))
        return parse_json(body) if head.kind == JSON_KIND else body

    def receive_json(self, timeout_s: float = _TIMEOUT_S) -> Unchecked:
        message = self.receive(timeout_s)
        if not isinstance(message, dict):
            raise WireError("Control connection: a message was expected, not a record.")
        return message

    def _exactly(self, count: int) -> bytes:
        parts: list[bytes] = []
        left = count
        while left:
            try:
                part: bytes | None = self._sock.recv(min(left, 1 << 16))
            except socket.timeout:  # its own class before Python 3.10
                raise TimeoutError("The other end did not answer in time.") from None
            except OSError as error:
                raise ChannelClosed(str(error)) from None
            if not part:
                raise ChannelClosed("The other end closed the connection.")
            parts.append(part)
            left -= len(part)
        return b"".join(parts)

    @property
    def socket(self) -> socket.socket:
        """To wait on, beside others."""
        return self._sock

    def own_address(self) -> str:
        """The address this side of the connection has: media is sent from the same."""
        return str(self._sock.getsockname()[0])

    def peer_address(self) -> str:
        return str(self._sock.getpeername()[0])

    def close(self) -> None:
        self._sock.close()
