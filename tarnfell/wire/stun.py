"""STUN binding requests and their answers (RFC 8489): under which address and port a packet arrived."""

from __future__ import annotations

import ipaddress
import struct
from dataclasses import dataclass

from tarnfell.wire import WireError

PORT = 3478
COOKIE = 0x2112A442
TRANSACTION_BYTES = 12
_REQUEST, _SUCCESS, _FAILURE = 0x0001, 0x0101, 0x0111
_MAPPED, _CHANGE_REQUEST, _ERROR_CODE, _XOR_MAPPED, _OTHER = 0x0001, 0x0003, 0x0009, 0x0020, 0x802C
_PADDING, _RESPONSE_PORT = 0x0026, 0x0027
PADDED_BYTES = 64
"""Long enough that no answer is longer."""
_HEAD = struct.Struct("!HHI12s")


@dataclass(frozen=True)
class Endpoint:
    address: str
    port: int


@dataclass(frozen=True)
class Bound:
    """What a server says of where a request came from."""

    mapped: Endpoint
    other: Endpoint | None
    """The server's second address (RFC 5780 §7.4); None where it has none."""


@dataclass(frozen=True)
class Asked:
    """A binding request as a server reads it."""

    transaction: bytes
    response_port: int | None
    """Where the answer is to go, at the address that asked (RFC 5780 §7.5); None: where it came from."""


def padded_request(transaction: bytes, response_port: int | None = None) -> bytes:
    """A binding request of PADDED_BYTES, whose answer goes to another port of the asker where one is given."""
    body = b"" if response_port is None else struct.pack("!HHHH", _RESPONSE_PORT, 4, response_port, 0)
    padding = PADDED_BYTES - _HEAD.size - len(body) - 4
    body += struct.pack("!HH", _PADDING, padding) + bytes(padding)
    return _HEAD.pack(_REQUEST, len(body), COOKIE, transaction) + body


def asked(data: bytes) -> Asked:
    """Raises WireError for what is no binding request."""
    if len(data) < _HEAD.size:
        raise WireError("STUN: cut short.")
    kind, length, cookie, transaction = _HEAD.unpack_from(data)
    if kind != _REQUEST or cookie != COOKIE or len(data) != _HEAD.size + length:
        raise WireError("STUN: no binding request.")
    told = dict(_attributes(data[_HEAD.size :])).get(_RESPONSE_PORT)
    if told is not None and (len(told) != 4 or told[:2] == b"\0\0"):
        raise WireError("STUN: a port that is none.")
    return Asked(transaction, None if told is None else int.from_bytes(told[:2], "big"))


def success(transaction: bytes, mapped: Endpoint) -> bytes:
    """The answer that says where a request came from (RFC 8489 §14.2)."""
    packed = ipaddress.ip_address(mapped.address).packed
    mask = COOKIE.to_bytes(4, "big") + transaction
    address = bytes(a ^ b for a, b in zip(packed, mask))
    value = struct.pack("!xBH", 1 if len(packed) == 4 else 2, mapped.port ^ (COOKIE >> 16)) + address
    body = struct.pack("!HH", _XOR_MAPPED, len(value)) + value
    return _HEAD.pack(_SUCCESS, len(body), COOKIE, transaction) + body


def request(transaction: bytes, change_address: bool = False, change_port: bool = False) -> bytes:
    """A binding request; with a change asked for the answer comes from there (RFC 5780 §7.2)."""
    body = b""
    if change_address or change_port:
        body = struct.pack("!HHI", _CHANGE_REQUEST, 4, 4 * change_address + 2 * change_port)
    return _HEAD.pack(_REQUEST, len(body), COOKIE, transaction) + body


def answer(data: bytes, transaction: bytes) -> Bound:
    """Raises WireError for anything that does not answer this request."""
    if len(data) < _HEAD.size:
        raise WireError("STUN: cut short.")
    kind, length, cookie, told = _HEAD.unpack_from(data)
    if kind not in (_SUCCESS, _FAILURE) or cookie != COOKIE or told != transaction:
        raise WireError("STUN: no answer to this request.")
    if len(data) < _HEAD.size + length:
        raise WireError("STUN: cut short.")
    told_of = dict(_attributes(data[_HEAD.size : _HEAD.size + length]))
    if kind == _FAILURE:
        code = told_of.get(_ERROR_CODE, b"\0\0\0\0")
        number = 100 * (code[2] & 7) + code[3] if len(code) >= 4 else 0
        raise WireError(f"STUN: the server refuses ({number}).")
    if _XOR_MAPPED in told_of:
        mapped = _endpoint(told_of[_XOR_MAPPED], transaction)
    elif _MAPPED in told_of:
        mapped = _endpoint(told_of[_MAPPED], None)
    else:
        raise WireError("STUN: the answer names no address.")
    return Bound(mapped, _endpoint(told_of[_OTHER], None) if _OTHER in told_of else None)


def _attributes(body: bytes) -> list[tuple[int, bytes]]:
    found, at = [], 0
    while at + 4 <= len(body):
        kind, length = struct.unpack_from("!HH", body, at)
        value = body[at + 4 : at + 4 + length]
        if len(value) != length:
            raise WireError("STUN: an attribute is cut short.")
        found.append((kind, value))
        at += 4 + length + -length % 4
    return found


def _endpoint(value: bytes, transaction: bytes | None) -> Endpoint:
    """With ``transaction`` it is masked by cookie and transaction (RFC 8489 §14.2)."""
    lengths = {1: 4, 2: 16}
    if len(value) < 4 or len(value) != 4 + lengths.get(value[1], -1):
        raise WireError("STUN: an address is cut short.")
    port, address = int.from_bytes(value[2:4], "big"), value[4:]
    if transaction is not None:
        port ^= COOKIE >> 16
        mask = COOKIE.to_bytes(4, "big") + transaction
        address = bytes(a ^ b for a, b in zip(address, mask))
    return Endpoint(str(ipaddress.ip_address(address)), port)
