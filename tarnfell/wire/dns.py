"""DNS messages (RFC 1035 §4): a question for addresses, and what an answer says. Nothing else of the protocol."""

from __future__ import annotations

import ipaddress
import struct
from dataclasses import dataclass

from tarnfell.wire import WireError

PORT = 53
A, AAAA = 1, 28
IN = 1
NOERROR, NXDOMAIN = 0, 3
_HEAD = struct.Struct("!HHHHHH")
_QR, _TC, _RD = 0x8000, 0x0200, 0x0100
_MAX_LABELS = 128
_MAX_RECORDS = 200


@dataclass(frozen=True)
class Answer:
    """What a name server said."""

    rcode: int
    truncated: bool
    """It has more to say than fits; asked over TCP it says all (RFC 7766 §5)."""
    addresses: tuple[str, ...]
    """Of the type asked for, in their order."""


def question(identifier: int, name: str, kind: int = A) -> bytes:
    """Raises WireError for a name that cannot be asked for."""
    return _HEAD.pack(identifier, _RD, 1, 0, 0, 0) + _encoded(name) + struct.pack("!HH", kind, IN)


def answer(data: bytes, identifier: int, name: str, kind: int = A) -> Answer:
    """Raises WireError for anything that does not answer just this question (RFC 5452 §9.1)."""
    if len(data) < _HEAD.size:
        raise WireError("DNS: cut short.")
    told, flags, questions, answers, _, _ = _HEAD.unpack_from(data)
    asked = _encoded(name) + struct.pack("!HH", kind, IN)
    if told != identifier or not flags & _QR:
        raise WireError("DNS: no answer to this question.")
    rcode = flags & 15
    end = _HEAD.size + len(asked)
    if questions != 1 or data[_HEAD.size : end].lower() != asked.lower():
        # A server that could not read the question need not repeat it (RFC 1035 §4.1.1).
        if rcode == NOERROR:
            raise WireError("DNS: it answers another question.")
        return Answer(rcode, bool(flags & _TC), ())
    return Answer(rcode, bool(flags & _TC), tuple(_addresses(data, end, min(answers, _MAX_RECORDS), kind)))


def _addresses(data: bytes, at: int, count: int, kind: int) -> list[str]:
    found = []
    for _ in range(count):
        at = _past_name(data, at)
        if len(data) < at + 10:
            raise WireError("DNS: a record is cut short.")
        what, klass, _, length = struct.unpack_from("!HHIH", data, at)
        body = data[at + 10 : at + 10 + length]
        if len(body) != length:
            raise WireError("DNS: a record is cut short.")
        if (what, klass) == (kind, IN) and length == (4 if kind == A else 16):
            found.append(str(ipaddress.ip_address(body)))
        at += 10 + length
    return found


def _past_name(data: bytes, at: int) -> int:
    """Where the name that begins at ``at`` ends; a pointer ends it (RFC 1035 §4.1.4)."""
    for _ in range(_MAX_LABELS):
        if at >= len(data):
            break
        length = data[at]
        if length >= 0xC0:
            return at + 2
        at += 1 + length
        if length == 0:
            return at
    raise WireError("DNS: a name does not end.")


def _encoded(name: str) -> bytes:
    if name == ".":
        return b"\0"
    try:
        labels = [label.encode("idna") for label in name.rstrip(".").split(".")]
    except UnicodeError:
        raise WireError(f"“{name}” is no name that can be asked for.") from None
    if not labels or any(not 1 <= len(label) <= 63 for label in labels) or sum(map(len, labels)) + len(labels) > 253:
        raise WireError(f"“{name}” is no name that can be asked for.")
    return b"".join(bytes([len(label)]) + label for label in labels) + b"\0"
