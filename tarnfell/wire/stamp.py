"""STAMP test packets, unauthenticated and authenticated (RFC 8762 §4; RFC 8972 §3 for the session id, §4.1: padding).

The authenticated form carries HMAC-SHA-256 cut to 128 bits over all that goes
before it (RFC 8762 §4.4). Padding comes after it, and is carried back.
"""

from __future__ import annotations

import hmac
import struct
from dataclasses import dataclass

from tarnfell.wire import WireError

PLAIN_BYTES = 44
AUTHENTICATED_BYTES = 112
_MAC_BYTES = 16
_PLAIN_SENDER = struct.Struct("!IQHH28x")
_PLAIN_REFLECTOR = struct.Struct("!IQHHQIQHHB3x")
_AUTH_SENDER = struct.Struct("!I12xQHH68x")
_AUTH_REFLECTOR = struct.Struct("!I12xQHH4xQ8xI12xQH6xB15x")

_PADDING = struct.Struct("!BBH")
"""Flags, type and length of an extension."""
_EXTRA_PADDING = 1

ERROR_ESTIMATE = 0x8001
"""S set (clock synchronised to UTC by some means), Z clear (NTP format), multiplier 1, scale 0 (RFC 4656 §4.1.2)."""


@dataclass(frozen=True)
class SenderPacket:
    """Session-Sender to Session-Reflector."""

    sequence_number: int
    timestamp: int
    """NTP format, 64 bits."""
    session_id: int = 0
    error_estimate: int = ERROR_ESTIMATE

    @staticmethod
    def parse(data: bytes, key: bytes | None = None) -> SenderPacket:
        """Raises WireError; with ``key`` the authentic form is demanded."""
        layout = _AUTH_SENDER if key is not None else _PLAIN_SENDER
        sequence, timestamp, error, session = layout.unpack_from(_checked(data, key))
        return SenderPacket(sequence, timestamp, session, error)

    def serialize(self, key: bytes | None = None) -> bytes:
        layout = _AUTH_SENDER if key is not None else _PLAIN_SENDER
        return _sealed(layout.pack(self.sequence_number, self.timestamp, self.error_estimate, self.session_id), key)


@dataclass(frozen=True)
class ReflectorPacket:
    """Session-Reflector's answer: its own times, and the sender's packet repeated."""

    sequence_number: int
    timestamp: int
    """When the answer left."""
    receive_timestamp: int
    sender_sequence_number: int
    sender_timestamp: int
    sender_ttl: int
    session_id: int = 0
    error_estimate: int = ERROR_ESTIMATE
    sender_error_estimate: int = ERROR_ESTIMATE

    @staticmethod
    def parse(data: bytes, key: bytes | None = None) -> ReflectorPacket:
        """Raises WireError; with ``key`` the authentic form is demanded."""
        body = _checked(data, key)
        if key is None:
            seq, left, error, session, received, s_seq, s_left, s_error, _, ttl = _PLAIN_REFLECTOR.unpack_from(body)
        else:
            seq, left, error, session, received, s_seq, s_left, s_error, ttl = _AUTH_REFLECTOR.unpack_from(body)
        return ReflectorPacket(seq, left, received, s_seq, s_left, ttl, session, error, s_error)

    def serialize(self, key: bytes | None = None) -> bytes:
        head = (
            self.sequence_number,
            self.timestamp,
            self.error_estimate,
            self.session_id,
            self.receive_timestamp,
        )
        tail = (self.sender_sequence_number, self.sender_timestamp, self.sender_error_estimate)
        if key is None:
            return _PLAIN_REFLECTOR.pack(*head, *tail, 0, self.sender_ttl)
        return _sealed(_AUTH_REFLECTOR.pack(*head, *tail, self.sender_ttl), key)


def extra_padding(size: int) -> bytes:
    """An extension of nothing, ``size`` bytes in all, that makes a packet larger; empty for less than its own head."""
    if size < _PADDING.size:
        return b""
    return _PADDING.pack(0, _EXTRA_PADDING, size - _PADDING.size) + bytes(size - _PADDING.size)


def extensions_of(data: bytes, key: bytes | None = None) -> bytes:
    """What follows the packet itself."""
    return data[PLAIN_BYTES if key is None else AUTHENTICATED_BYTES :]


def _checked(data: bytes, key: bytes | None) -> bytes:
    needed = PLAIN_BYTES if key is None else AUTHENTICATED_BYTES
    if len(data) < needed:
        raise WireError(f"STAMP: {len(data)} bytes, at least {needed} expected.")
    if key is not None:
        body, mac = (
            data[: AUTHENTICATED_BYTES - _MAC_BYTES],
            data[AUTHENTICATED_BYTES - _MAC_BYTES :][:_MAC_BYTES],
        )
        if not hmac.compare_digest(_mac(key, body), mac):
            raise WireError("STAMP: authentication failed.")
    return data


def _sealed(body: bytes, key: bytes | None) -> bytes:
    return body if key is None else body + _mac(key, body)


def _mac(key: bytes, body: bytes) -> bytes:
    return hmac.digest(key, body, "sha256")[:_MAC_BYTES]
