"""Frames of the control connection between probe and far end (docs/protocol.md).

A frame is a length, a kind, a body and, once keys are known, a MAC over a
running number, the direction, the kind and the body, so that nothing can be
forged, replayed or moved to another place.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import struct
from dataclasses import dataclass
from typing import Literal

from tarnfell.wire import Unchecked, WireError

PROTOCOL_VERSION = 1
DEFAULT_PORT = 4870
DEFAULT_MEDIA_PORTS = (20000, 20399)
NONCE_BYTES = 16
MAC_BYTES = 32
MAX_JSON_BYTES = 1 << 18
MAX_BINARY_BYTES = 1 << 27
_HEAD = struct.Struct("!IB")
HEAD_BYTES = _HEAD.size
JSON_KIND, BINARY_KIND = 1, 2

Direction = Literal["probe", "farend"]


@dataclass(frozen=True)
class FrameHead:
    length: int
    """Bytes that follow: body and MAC."""
    kind: int

    @staticmethod
    def parse(data: bytes) -> FrameHead:
        """Raises WireError for a kind or length that cannot be."""
        length, kind = _HEAD.unpack(data)
        limit = {JSON_KIND: MAX_JSON_BYTES, BINARY_KIND: MAX_BINARY_BYTES}.get(kind)
        if limit is None:
            raise WireError(f"Control connection: frame of kind {kind}.")
        if length > limit + MAC_BYTES:
            raise WireError(f"Control connection: a frame of {length} bytes is too long.")
        return FrameHead(length, kind)


class Seal:
    """Writes and checks the frames of one direction. Without a key frames are bare (the greeting only)."""

    def __init__(self, direction: Direction, key: bytes | None) -> None:
        self._direction = direction.encode()
        self._key = key
        self._number = 0

    def frame(self, kind: int, body: bytes) -> bytes:
        mac = self._mac(kind, body)
        return _HEAD.pack(len(body) + len(mac), kind) + body + mac

    def open(self, kind: int, rest: bytes) -> bytes:
        """The body of a received frame. Raises WireError when it is not from the holder of the key."""
        if self._key is None:
            return rest
        if len(rest) < MAC_BYTES:
            raise WireError("Control connection: frame without authentication.")
        body, mac = rest[:-MAC_BYTES], rest[-MAC_BYTES:]
        if not hmac.compare_digest(self._mac(kind, body), mac):
            raise WireError("Control connection: authentication failed.")
        return body

    def _mac(self, kind: int, body: bytes) -> bytes:
        if self._key is None:
            return b""
        text = self._direction + self._number.to_bytes(8, "big") + bytes([kind]) + body
        self._number += 1
        return hmac.digest(self._key, text, "sha256")


def session_key(key: bytes, farend_nonce: bytes, probe_nonce: bytes, purpose: str) -> bytes:
    """A key for one purpose of one session, from the shared key and both sides' nonces."""
    secret = hashlib.sha256(key).digest()
    return hmac.digest(secret, b"tarnfell-1 " + purpose.encode() + farend_nonce + probe_nonce, "sha256")


def parse_json(body: bytes) -> Unchecked:
    """Raises WireError unless the body is one JSON object."""
    try:
        value = json.loads(body)
    except (ValueError, RecursionError):
        raise WireError("Control connection: not JSON.") from None
    if not isinstance(value, dict):
        raise WireError("Control connection: not a JSON object.")
    return value


# Media binding: four small packets by which a media address proves that it receives.

BIND, CHALLENGE, CONFIRM, BOUND = 1, 2, 3, 4
_BIND_MAGIC = b"TFB1"
_BINDING = struct.Struct("!4sBxH16s")
_BIND_MAC_BYTES = 16
BINDING_BYTES = _BINDING.size + _BIND_MAC_BYTES


@dataclass(frozen=True)
class Binding:
    """One step of the binding of one call's media addresses; all steps have the same size."""

    step: int
    call: int
    cookie: bytes = bytes(16)

    @staticmethod
    def parse(data: bytes, key: bytes) -> Binding:
        """Raises WireError when it is not a binding packet of this session."""
        if len(data) != BINDING_BYTES or data[:4] != _BIND_MAGIC:
            raise WireError("Media binding: not a binding packet.")
        body, mac = data[:-_BIND_MAC_BYTES], data[-_BIND_MAC_BYTES:]
        if not hmac.compare_digest(hmac.digest(key, body, "sha256")[:_BIND_MAC_BYTES], mac):
            raise WireError("Media binding: authentication failed.")
        _, step, call, cookie = _BINDING.unpack(body)
        return Binding(step, call, cookie)

    def serialize(self, key: bytes) -> bytes:
        body = _BINDING.pack(_BIND_MAGIC, self.step, self.call, self.cookie)
        return body + hmac.digest(key, body, "sha256")[:_BIND_MAC_BYTES]
