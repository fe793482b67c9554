"""Registering at the customer's own registrar, and calling oneself through it: what works there as a phone would find.

Only this end of the messages is known. What is registered is taken back at the end.
"""

from __future__ import annotations

import re
import secrets
import socket
import ssl
import time
from collections.abc import Callable
from dataclasses import replace

from tarnfell.probe.asking.sip_talk import Talk
from tarnfell.wire import WireError, sip
from tarnfell.wire.kinds.signalling import MAX_MESSAGES, NO_CONNECTION, RegistrarFacts, SipAccount, SipMessage

EXPIRES_S = 120
RINGS_S = 6.0
"""How long the call to oneself may take to come back."""


def registrar(account: SipAccount, go_on: Callable[[], bool] = lambda: True) -> RegistrarFacts:
    """What went to and fro until it was stopped."""
    known = RegistrarFacts(account.host, account.port, account.transport, account.user)
    try:
        kind = socket.SOCK_DGRAM if account.transport == "udp" else socket.SOCK_STREAM
        family, _, _, _, far = socket.getaddrinfo(account.host, account.port, type=kind)[0]
    except OSError:
        return replace(known, failure=f"The name {account.host} has no address here.")
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as way_out:
            way_out.connect(far)
            own = str(way_out.getsockname()[0])
    except OSError as error:
        return replace(known, failure=f"There is no way to {account.host}: {error.strerror}.")
    talk = _WithRegistrar(account, family, own, (str(far[0]), account.port))
    try:
        trusted = talk.opened()
        talk.hold(go_on)
    except OSError as error:
        failure = f"{NO_CONNECTION}{error.strerror or error}."
        return replace(known, failure=failure, messages=tuple(talk.messages))
    finally:
        talk.close()
    return replace(
        known, messages=tuple(talk.messages), trusted=trusted, offered=talk.offered, came_back=talk.came_back
    )


class _WithRegistrar(Talk):
    def __init__(self, account: SipAccount, family: int, own: str, far: tuple[str, int]) -> None:
        security = _trusting_nobody() if account.transport == "tls" else None
        domain = account.domain or account.host
        super().__init__(family, own, far, account.transport, account.user, domain, security, account.host)
        self._account, self._began = account, time.monotonic()
        self._number = 0
        self._tag_of_called = secrets.token_hex(4)
        self._is_up = False
        """The call to oneself has been taken and confirmed."""
        self.messages: list[SipMessage] = []
        self.offered = self.came_back = ""

    def opened(self) -> bool | None:
        """Connect; over TLS, whether the system trusts the certificate for that name. Raises OSError."""
        self.connect()
        return _is_trusted(self._account, self.far) if self.transport == "tls" else None

    def hold(self, go_on: Callable[[], bool]) -> None:
        self.ask(self._next("OPTIONS"))  # some do not answer it, and register all the same
        if not go_on():
            return
        answer = self._shown("REGISTER", ("Expires", str(EXPIRES_S)))
        if answer is None or answer.status != 200:
            return
        if go_on():
            self._call_oneself()
        self._shown("REGISTER", ("Expires", "0"))

    def _next(self, method: str, *more: tuple[str, str], to: str = "", body: str = "") -> sip.Message:
        self._number += 1
        return self.request(method, self._number, *more, to=to, body=body)

    def _shown(self, method: str, *more: tuple[str, str], body: str = "") -> sip.Message | None:
        """The final answer, after what was asked to be shown was shown."""
        request = self._next(method, *more, body=body)
        answer = self._answered(request)
        if answer is None or answer.status not in (401, 407):
            return answer
        asked, shown = ("WWW-Authenticate", "Authorization")
        if answer.status == 407:
            asked, shown = ("Proxy-Authenticate", "Proxy-Authorization")
        for told in answer.all(asked):
            try:
                challenge = sip.Challenge.parse(told)
            except WireError:
                continue  # another follows, or none that can be met
            account, uri = self._account, request.start.split(" ")[1]
            met = sip.authorization(
                challenge, account.user, account.password, method, uri, secrets.token_hex(8)
            )  # fmt: skip
            return self._answered(self._next(method, (shown, met), *more, body=body))
        return answer

    def _answered(self, request: sip.Message) -> sip.Message | None:
        """The final answer; of an invitation that was not taken it is confirmed, or it would come again and again."""
        answer = self.ask(request)
        if answer is not None and request.method == "INVITE" and (answer.status or 0) >= 300:
            self.send(self._ended(request, answer))
        return answer

    def _call_oneself(self) -> None:
        self.offered = sip.description(self.own, 20000)
        answer = self._shown("INVITE", ("Content-Type", "application/sdp"), body=self.offered)
        if answer is None or answer.status != 200:
            return
        number = self._number
        self.send(self._inside(answer, "ACK", number))
        until = time.monotonic() + RINGS_S
        while not self._is_up and (left := until - time.monotonic()) > 0:
            self.arrivals(left)
        self._number += 1
        self.ask(self._inside(answer, "BYE", self._number))

    def _ended(self, request: sip.Message, answer: sip.Message) -> sip.Message:
        """What confirms an answer that is no success (RFC 3261 §17.1.1.3): of the request's own transaction."""
        via = next((name, value) for name, value in request.headers if name == "Via")
        kept = [(name, value) for name, value in request.headers if name in ("From", "Call-ID", "Max-Forwards")]
        uri = request.start.split(" ")[1]
        number = (request.get("cseq") or "").split(" ")[0]
        return sip.Message(
            f"ACK {uri} SIP/2.0", (via, *kept, ("To", answer.get("to") or ""), ("CSeq", f"{number} ACK"))
        )

    def _inside(self, answer: sip.Message, method: str, number: int) -> sip.Message:
        """A request of the dialog that an answer set up, by the way it tells (RFC 3261 §12.2.1.1)."""
        plain = self.request(method, number, to=answer.get("to") or "")
        target = sip.uri_of(answer.get("contact") or "") or plain.start.split(" ")[1]
        routes = [("Route", route) for route in reversed(answer.all("record-route"))]
        return sip.Message(f"{method} {target} SIP/2.0", (*plain.headers, *routes))

    def arrivals(self, for_s: float) -> list[sip.Message]:
        """Answers; what calls this end is answered meanwhile."""
        answers = []
        for message in super().arrivals(for_s):
            if message.status is None:
                self._take_call(message)
            else:
                answers.append(message)
        return answers

    def _take_call(self, asked: sip.Message) -> None:
        def answer(status: str, *more: tuple[str, str], body: str = "") -> None:
            self.send(sip.answer(asked, status, self.far, self._tag_of_called, *more, body=body))

        own = ("Contact", f"<{self.contact()}>")
        if asked.method == "INVITE":
            self.came_back = asked.body
            answer("180 Ringing", own)
            answer("200 OK", own, ("Content-Type", "application/sdp"), body=sip.description(self.own, 20000))
        elif asked.method == "ACK":
            self._is_up = True
        else:
            answer("200 OK")

    def on_sent(self, data: bytes) -> None:
        # What was made of the password is nobody's to keep.
        self._note("up", sent=re.sub(r'response="[0-9a-f]+"', 'response="…"', data.decode("utf-8", "replace")))

    def on_arrived(self, data: bytes) -> None:
        self._note("down", arrived=data.decode("utf-8", "replace"))

    def _note(self, way: str, sent: str = "", arrived: str = "") -> None:
        at_ms = round((time.monotonic() - self._began) * 1000, 1)
        if len(self.messages) < MAX_MESSAGES:
            self.messages.append(SipMessage(self.transport, way, at_ms, sent, arrived))  # type: ignore[arg-type]


def _trusting_nobody() -> ssl.SSLContext:
    """That nobody vouches for a certificate is told, and keeps nobody from talking."""
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    made.check_hostname = False
    made.verify_mode = ssl.CERT_NONE
    return made


def _is_trusted(account: SipAccount, far: tuple[str, int]) -> bool:
    """By a second connection, because the first takes whatever certificate comes."""
    try:
        with socket.create_connection(far, timeout=3.0) as sock:
            ssl.create_default_context().wrap_socket(sock, server_hostname=account.host).close()
    except OSError:
        return False
    return True
