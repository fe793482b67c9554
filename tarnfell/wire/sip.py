"""SIP messages (RFC 3261) as far as registering and one short call need them, and digest access (RFC 8760).

Headers are kept in their order and as they were written, so that what was changed on the way can be told.
"""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass

from tarnfell.wire import WireError

PORT = 5060
TLS_PORT = 5061
"""RFC 3261 §19.1.2."""
MAX_BYTES = 4000
_COMPACT = {"v": "via", "f": "from", "t": "to", "i": "call-id", "m": "contact", "l": "content-length",
            "c": "content-type", "k": "supported", "s": "subject", "e": "content-encoding"}  # fmt: skip
"""RFC 3261 §7.3.3."""


@dataclass(frozen=True)
class Message:
    start: str
    """Request line or status line."""
    headers: tuple[tuple[str, str], ...]
    """Names as they were written."""
    body: str = ""

    def get(self, name: str) -> str | None:
        return next((value for value in self.all(name)), None)

    def all(self, name: str) -> list[str]:
        """Values of a header in their order, by its long name in any case."""
        return [value for told, value in self.headers if long_name(told) == name.lower()]

    @property
    def method(self) -> str:
        """Of a request; of an answer the method it answers."""
        if self.status is None:
            return self.start.partition(" ")[0]
        return (self.get("cseq") or "").rpartition(" ")[2]

    @property
    def status(self) -> int | None:
        """None of a request."""
        found = re.match(r"SIP/2\.0 (\d{3}) ", self.start + " ")
        return int(found[1]) if found else None

    def serialize(self) -> bytes:
        kept = [(name, value) for name, value in self.headers if long_name(name) != "content-length"]
        lines = [
            self.start,
            *(f"{name}: {value}" for name, value in kept),
            f"Content-Length: {len(self.body.encode())}",
        ]
        return ("\r\n".join(lines) + "\r\n\r\n" + self.body).encode()

    @staticmethod
    def parse(data: bytes) -> Message:
        """Raises WireError."""
        if len(data) > MAX_BYTES:
            raise WireError("SIP: a message of that size is not read.")
        try:
            head, gap, body = data.decode("utf-8").partition("\r\n\r\n")
        except UnicodeDecodeError:
            raise WireError("SIP: no text.") from None
        start, *lines = head.split("\r\n")
        if not gap or not re.fullmatch(r"SIP/2\.0 \d{3} ?.*|[A-Z]+ \S+ SIP/2\.0", start):
            raise WireError("SIP: no message.")
        headers = []
        for line in lines:
            name, colon, value = line.partition(":")
            if not colon or not name.strip() or name != name.lstrip():
                raise WireError("SIP: a header that is none.")
            headers.append((name.strip(), value.strip()))
        return Message(start, tuple(headers), body)


def long_name(name: str) -> str:
    return _COMPACT.get(name.lower(), name.lower())


def length_of(head: bytes) -> int:
    """Bytes of the body that a message announces, over TCP (RFC 3261 §18.3). Raises WireError."""
    found = re.search(rb"(?im)^(?:content-length|l)[ \t]*:[ \t]*(\d{1,5})[ \t]*\r?$", head)
    if not found:
        raise WireError("SIP: no Content-Length.")
    return int(found[1])


def whole_messages(data: bytes) -> tuple[list[bytes], bytes]:
    """Those that a stream holds, and the beginning of the next (RFC 3261 §18.3).

    A head without a length that can be read ends with what there is: no message, as parsing will tell.
    """
    found = []
    while b"\r\n\r\n" in data:
        head = data.partition(b"\r\n\r\n")[0] + b"\r\n\r\n"
        try:
            length = len(head) + length_of(head)
        except WireError:
            length = len(data)
        if len(data) < length:
            break
        found.append(data[:length])
        data = data[length:]
    return found, data


def answer(
    asked: Message, status: str, source: tuple[str, int], tag: str, *more: tuple[str, str], body: str = ""
) -> Message:
    """To a request that came from ``source`` (RFC 3261 §8.2.6), with where that was (RFC 3581 §4)."""
    vias = [("Via", via) for via in asked.all("via")]
    top = (vias[0][1] if vias else "").replace(";rport", f";rport={source[1]};received={source[0]}", 1)
    to = asked.get("to") or ""
    tagged = to if ";tag=" in to else f"{to};tag={tag}"
    routes = [("Record-Route", route) for route in asked.all("record-route")]
    kept = [(name, asked.get(name) or "") for name in ("From", "Call-ID", "CSeq")]
    return Message(f"SIP/2.0 {status}", (("Via", top), *vias[1:], *routes, ("To", tagged), *kept, *more), body)


@dataclass(frozen=True)
class Challenge:
    """What a registrar asks to be shown (RFC 7616 §3.3)."""

    realm: str
    nonce: str
    algorithm: str = "SHA-256"
    has_qop: bool = True
    """Without, as RFC 2069 had it and registrars still ask."""
    opaque: str = ""

    def header(self) -> str:
        return f'Digest realm="{self.realm}", nonce="{self.nonce}", algorithm={self.algorithm}, qop="auth"'

    @staticmethod
    def parse(value: str) -> Challenge:
        """Raises WireError."""
        told = _parameters(value)
        if "realm" not in told or "nonce" not in told or told.get("algorithm", "MD5").upper() not in _HASHES:
            raise WireError("SIP: a challenge that cannot be met.")
        qops = [one.strip() for one in told.get("qop", "").split(",") if one.strip()]
        if qops and "auth" not in qops:
            raise WireError("SIP: a challenge that cannot be met.")
        algorithm = told.get("algorithm", "MD5").upper()
        return Challenge(told["realm"], told["nonce"], algorithm, bool(qops), told.get("opaque", ""))


_HASHES = {"MD5": hashlib.md5, "SHA-256": hashlib.sha256}


def authorization(challenge: Challenge, user: str, password: str, method: str, uri: str, cnonce: str) -> str:
    """The header that meets a challenge, with qop "auth" where it was asked for (RFC 7616 §3.4)."""
    response = _response(challenge, user, password, method, uri, cnonce)
    quality = f', cnonce="{cnonce}", qop=auth, nc=00000001' if challenge.has_qop else ""
    opaque = f', opaque="{challenge.opaque}"' if challenge.opaque else ""
    return (
        f'Digest username="{user}", realm="{challenge.realm}", nonce="{challenge.nonce}", uri="{uri}", '
        f'response="{response}", algorithm={challenge.algorithm}{quality}{opaque}'
    )


def is_met(header: str, challenge: Challenge, user: str, password: str, method: str) -> bool:
    told = _parameters(header)
    wanted = _response(challenge, user, password, method, told.get("uri", ""), told.get("cnonce", ""))
    return told.get("nonce") == challenge.nonce and told.get("username") == user and told.get("response") == wanted


def _response(challenge: Challenge, user: str, password: str, method: str, uri: str, cnonce: str) -> str:
    def digest(*parts: str) -> str:
        return _HASHES[challenge.algorithm](":".join(parts).encode()).hexdigest()

    who, what = digest(user, challenge.realm, password), digest(method, uri)
    if not challenge.has_qop:
        return digest(who, challenge.nonce, what)
    return digest(who, challenge.nonce, "00000001", cnonce, "auth", what)


def _parameters(value: str) -> dict[str, str]:
    return {
        name.lower(): quoted or plain for name, quoted, plain in re.findall(r'(\w+)=(?:"([^"]*)"|([^\s,]+))', value)
    }


def description(address: str, port: int) -> str:
    """A session description of one G.711 call (RFC 8866)."""
    family = "IP6" if ":" in address else "IP4"
    lines = (
        "v=0", f"o=- 1 1 IN {family} {address}", "s=-", f"c=IN {family} {address}", "t=0 0",
        f"m=audio {port} RTP/AVP 8", "a=rtpmap:8 PCMA/8000", "a=ptime:20",
    )  # fmt: skip
    return "".join(f"{line}\r\n" for line in lines)


def media_of(description: str) -> tuple[str, int] | None:
    """Address and port of the first audio stream of a session description (RFC 8866); None where there is none.

    The stream's own connection line counts before that of the session.
    """
    session, _, media = description.partition("m=audio ")
    port = re.match(r"(\d{1,5}) ", media)
    lines = re.findall(r"(?m)^c=IN IP[46] ([^\s/]+)", media.partition("\nm=")[0]) or re.findall(
        r"(?m)^c=IN IP[46] ([^\s/]+)", session
    )
    if port is None or not lines or not 0 < int(port[1]) < 65536:
        return None
    return lines[0], int(port[1])


def uri_of(value: str) -> str:
    """Of a name-addr or addr-spec (RFC 3261 §20.10), without the parameters of the header."""
    found = re.search(r"<([^>]+)>", value) or re.match(r"\s*([^\s;]+)", value)
    return found[1] if found else ""
