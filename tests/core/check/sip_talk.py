"""A registration and a call as both ends tell of them, made up."""

from __future__ import annotations

from tarnfell.wire.kinds.signalling import SipMessage, SipTransport

STEPS = (
    ("up", "OPTIONS", 1, 0), ("down", "OPTIONS", 1, 200), ("up", "REGISTER", 2, 0), ("down", "REGISTER", 2, 401),
    ("up", "REGISTER", 3, 0), ("down", "REGISTER", 3, 200), ("up", "INVITE", 4, 0), ("down", "INVITE", 4, 180),
    ("down", "INVITE", 4, 200), ("up", "ACK", 4, 0), ("up", "BYE", 5, 0), ("down", "BYE", 5, 200),
)  # fmt: skip


def text(method: str, number: int, status: int, host: str = "10.0.0.9") -> str:
    start = f"SIP/2.0 {status} X" if status else f"{method} sip:far SIP/2.0"
    body = f"v=0\r\nc=IN IP4 {host}\r\n" if method == "INVITE" and status != 180 else ""
    return (
        f"{start}\r\nVia: SIP/2.0/UDP {host}:5062;branch=z\r\nContact: <sip:desk@{host}:5062>\r\n"
        f"CSeq: {number} {method}\r\nContent-Length: {len(body)}\r\n\r\n{body}"
    )


def talk(transport: SipTransport = "udp", until: int = len(STEPS)) -> list[SipMessage]:
    found = []
    for place, (way, method, number, status) in enumerate(STEPS[:until]):
        words = text(method, number, status)
        found.append(SipMessage(transport, way, 10.0 * place, words, words))  # type: ignore[arg-type]
    return found
