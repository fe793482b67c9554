"""Signalling of a phone's morning as both ends of a demo check tell of it: registration and a call."""

from __future__ import annotations

from collections.abc import Callable

from tarnfell.standin.sip_helper import rewritten
from tarnfell.wire import sip
from tarnfell.wire.kinds.signalling import SipMessage, SipTransport, SipWay

USER, PASSWORD = "desk", "made-up-for-the-demo"
PORT = 5062
_STEP_MS = 24.0

Passes = Callable[[bytes, SipWay], bytes]
"""What becomes of a message on its way."""


def talk(own: str, router: str, far: str, helper: bool) -> tuple[SipMessage, ...]:
    """Over UDP and over TCP; a helper in the router rewrites that over UDP."""

    def through_helper(data: bytes, way: SipWay) -> bytes:
        return rewritten(data, own, router) if way == "up" else rewritten(data, router, own)

    def untouched(data: bytes, _: SipWay) -> bytes:
        return data

    return (
        *_Talk("udp", own, far, through_helper if helper else untouched).hold(),
        *_Talk("tcp", own, far, untouched).hold(),
    )


class _Talk:
    def __init__(self, transport: SipTransport, own: str, far: str, passes: Passes) -> None:
        self._transport, self._own, self._far, self._passes = transport, own, far, passes
        self._said: list[SipMessage] = []
        self._challenge = sip.Challenge(far, "7e3c9d0b5a")

    def hold(self) -> tuple[SipMessage, ...]:
        typed = ("Content-Type", "application/sdp")
        uri = f"sip:{self._far}"
        shown = sip.authorization(self._challenge, USER, PASSWORD, "REGISTER", uri, "4a1f")
        self._answer(self._ask("OPTIONS", 1), "200 OK")
        self._answer(self._ask("REGISTER", 2), "401 Unauthorized", ("WWW-Authenticate", self._challenge.header()))
        self._answer(self._ask("REGISTER", 3, ("Authorization", shown)), "200 OK")
        invitation = self._ask("INVITE", 4, typed, body=sip.description(self._own, 40_012))
        contact = ("Contact", f"<sip:{USER}@{self._far}:5060;transport={self._transport}>")
        self._answer(invitation, "180 Ringing", contact)
        self._answer(invitation, "200 OK", contact, typed, body=sip.description(self._far, 20_002))
        self._ask("ACK", 4)
        self._answer(self._ask("BYE", 5), "200 OK")
        return tuple(self._said)

    def _ask(self, method: str, number: int, *more: tuple[str, str], body: str = "") -> sip.Message:
        """As it arrived at the far end."""
        domain = self._far
        uri = f"sip:{domain}" if method in ("OPTIONS", "REGISTER") else f"sip:{USER}@{domain}"
        via = f"SIP/2.0/{self._transport.upper()} {self._own}:{PORT};branch=z9hG4bKd{number};rport"
        who = f"<sip:{USER}@{domain}>"
        request = sip.Message(
            f"{method} {uri} SIP/2.0",
            (
                ("Via", via), ("Max-Forwards", "70"), ("From", f"{who};tag=d1"), ("To", who),
                ("Call-ID", f"demo-{self._transport}@{self._own}"), ("CSeq", f"{number} {method}"),
                ("Contact", f"<sip:{USER}@{self._own}:{PORT};transport={self._transport}>"), *more,
            ),
            body,
        )  # fmt: skip
        return sip.Message.parse(self._say("up", request))

    def _answer(self, asked: sip.Message, status: str, *more: tuple[str, str], body: str = "") -> None:
        self._say("down", sip.answer(asked, status, (self._own, PORT), "far", *more, body=body))

    def _say(self, way: SipWay, message: sip.Message) -> bytes:
        sent = message.serialize()
        arrived = self._passes(sent, way)
        at_ms = _STEP_MS * len(self._said)
        self._said.append(SipMessage(self._transport, way, at_ms, sent.decode(), arrived.decode()))
        return arrived
