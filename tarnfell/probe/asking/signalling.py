"""Registering with a far end and calling it, over UDP and TCP: each message as it was sent, and as it arrived.

The far end tells on the control connection, which nothing can change, what it received and what it sent.
"""

from __future__ import annotations

import re
import secrets
import select
import socket
import time
from collections.abc import Callable

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError, sip
from tarnfell.wire.kinds.signalling import SignallingFacts, SipMessage, SipTransport

USER = "desk"
TRANSPORTS: tuple[SipTransport, ...] = ("udp", "tcp")
TRIES, WAIT_S = 3, 1.0
TELL_S = 0.5


def signalling(host: str, port: int, key: bytes, go_on: Callable[[], bool] = lambda: True) -> SignallingFacts:
    """What went to and fro until it was stopped."""
    try:
        channel, family, purpose = connect(host, port, key)
    except CallError as error:
        return SignallingFacts(failure=str(error))
    messages: list[SipMessage] = []
    try:
        channel.send({"signalling": {}})
        answer = channel.receive_json()
        if "accepted" not in answer:
            return SignallingFacts(failure=str(answer.get("refused", "it does not know how")))
        began = time.monotonic()
        for transport in TRANSPORTS:
            if not go_on():
                break
            talk = _Talk(channel, family, transport, purpose("sip").hex(), began, messages)
            try:
                talk.hold(go_on)
            finally:
                talk.close()
        return SignallingFacts(tuple(messages), sip.PORT)
    except (ChannelClosed, TimeoutError, WireError, OSError, KeyError, TypeError) as error:
        return SignallingFacts(tuple(messages), sip.PORT, f"The far end went away: {error}")
    finally:
        channel.close()


class _Talk:
    """One registration and one call over one transport."""

    def __init__(
        self, channel: Channel, family: int, transport: SipTransport, password: str, began: float,
        messages: list[SipMessage],
    ) -> None:  # fmt: skip
        self._channel, self._transport, self._password = channel, transport, password
        self._began, self._messages = began, messages
        self._own, self._far = channel.own_address(), channel.peer_address()
        self._rest = b""
        self._over = False
        """The connection has ended."""
        self._call, self._tag = secrets.token_hex(8), secrets.token_hex(4)
        if transport == "udp":
            self._sock = open_media_socket(family, self._own)
        else:
            self._sock = socket.socket(family, socket.SOCK_STREAM)
            self._sock.bind((self._own, 0))

    def close(self) -> None:
        self._sock.close()

    def hold(self, go_on: Callable[[], bool]) -> None:
        """In the order of a phone's morning; what is not answered ends it."""
        if self._transport == "tcp" and not self._connected():
            return
        for step in (self._options, self._register, self._invite):
            if not go_on() or not step():
                return

    def _connected(self) -> bool:
        self._sock.settimeout(TRIES * WAIT_S)
        try:
            self._sock.connect((self._far, sip.PORT))
        except OSError:
            self._note("up", self._request("OPTIONS", 1).serialize(), b"")
            return False
        self._sock.setblocking(False)
        self._sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        return True

    def _options(self) -> bool:
        return self._ask(self._request("OPTIONS", 1)) is not None

    def _register(self) -> bool:
        answer = self._ask(self._request("REGISTER", 2))
        if answer is None or answer.status != 401:
            return answer is not None
        try:
            challenge = sip.Challenge.parse(answer.get("www-authenticate") or "")
        except WireError:
            return True  # it was changed on the way, which the messages show
        shown = sip.authorization(challenge, USER, self._password, "REGISTER", f"sip:{self._far}", secrets.token_hex(8))
        return self._ask(self._request("REGISTER", 3, ("Authorization", shown))) is not None

    def _invite(self) -> bool:
        media = int(self._sock.getsockname()[1]) + 2
        body = sip.description(self._own, media if media < 65536 else 20002)
        invite = self._request("INVITE", 4, ("Content-Type", "application/sdp"), body=body)
        answer = self._ask(invite)
        if answer is None or answer.status != 200:
            return answer is not None
        to = answer.get("to") or ""
        self._send(self._request("ACK", 4, to=to))
        self._listen(TELL_S)
        return self._ask(self._request("BYE", 5, to=to)) is not None

    def _request(self, method: str, number: int, *more: tuple[str, str], to: str = "", body: str = "") -> sip.Message:
        port = self._sock.getsockname()[1]
        host = f"[{self._own}]" if ":" in self._own else self._own
        far = f"[{self._far}]" if ":" in self._far else self._far
        who = f"<sip:{USER}@{far}>"
        uri = f"sip:{far}" if method in ("OPTIONS", "REGISTER") else f"sip:{USER}@{far}"
        branch = f"z9hG4bK{secrets.token_hex(6)}"
        return sip.Message(
            f"{method} {uri} SIP/2.0",
            (
                ("Via", f"SIP/2.0/{self._transport.upper()} {host}:{port};branch={branch};rport"),
                ("Max-Forwards", "70"),
                ("From", f"{who};tag={self._tag}"),
                ("To", to or who),
                ("Call-ID", f"{self._call}@{host}"),
                ("CSeq", f"{number} {method}"),
                ("Contact", f"<sip:{USER}@{host}:{port};transport={self._transport}>"),
                *more,
            ),
            body,
        )

    def _ask(self, request: sip.Message) -> sip.Message | None:
        """The final answer; over UDP the request is sent again while none comes (RFC 3261 §17.1.1.2)."""
        wanted = request.get("cseq")
        for _ in range(TRIES if self._transport == "udp" else 1):
            self._send(request)
            until = time.monotonic() + (WAIT_S if self._transport == "udp" else TRIES * WAIT_S)
            while (left := until - time.monotonic()) > 0:
                select.select([self._sock, self._channel.socket], [], [], left)
                self._listen(0.0)
                for data in self._arrived():
                    self._note_down(data)
                    try:
                        answer = sip.Message.parse(data)
                    except WireError:
                        continue
                    if answer.get("cseq") == wanted and (answer.status or 0) >= 200:
                        self._listen(TELL_S)
                        return answer
                if self._over:
                    return None
        return None

    def _send(self, message: sip.Message) -> None:
        data = message.serialize()
        try:
            if self._transport == "udp":
                self._sock.sendto(data, (self._far, sip.PORT))
            else:
                self._sock.sendall(data)
        except OSError:
            pass  # then it does not arrive
        self._note("up", data, b"")

    def _arrived(self) -> list[bytes]:
        if self._transport == "udp":
            found: list[bytes] = []
            while True:
                try:
                    arrival = receive(self._sock)
                except OSError:
                    return found
                if arrival is None:
                    return found
                found.append(arrival.data)
        try:
            came = self._sock.recv(1 << 16)
        except BlockingIOError:
            return []
        except OSError:
            came = b""
        self._over = not came
        self._rest += came
        return self._whole()

    def _whole(self) -> list[bytes]:
        found = []
        while b"\r\n\r\n" in self._rest:
            head = self._rest.partition(b"\r\n\r\n")[0] + b"\r\n\r\n"
            try:
                length = len(head) + sip.length_of(head)
            except WireError:
                length = len(self._rest)
            if len(self._rest) < length:
                break
            found.append(self._rest[:length])
            self._rest = self._rest[length:]
        return found

    def _note(self, way: str, sent: bytes, arrived: bytes) -> None:
        texts = (data.decode("utf-8", "replace") for data in (sent, arrived))
        self._messages.append(SipMessage(self._transport, way, self._now_ms(), *texts))  # type: ignore[arg-type]

    def _note_down(self, data: bytes) -> None:
        """What came, beside what the far end has told that it sent, or will tell."""
        waiting = next((i for i, one in enumerate(self._messages) if self._fits(one, data)), None)
        if waiting is None:
            self._note("down", b"", data)
        else:
            self._replace(waiting, self._now_ms(), arrived=data.decode("utf-8", "replace"))

    def _fits(self, one: SipMessage, data: bytes) -> bool:
        return (one.transport, one.way, one.arrived) == (self._transport, "down", "") and _first_line(
            one.sent
        ) == _first_line(data.decode("utf-8", "replace"))

    def _listen(self, for_s: float) -> None:
        """Take what the far end tells; until both ends of every message are known, or for so long."""
        until = time.monotonic() + for_s
        while self._channel.waiting(max(0.0, until - time.monotonic()) if self._is_owed() else 0.0):
            told = self._channel.receive_json()
            if told.get("transport") != self._transport:
                continue
            if "heard" in told:
                self._heard(str(told["heard"]))
            elif "said" in told:
                self._said(str(told["said"]))

    def _is_owed(self) -> bool:
        own = [one for one in self._messages if one.transport == self._transport]
        return any(not one.arrived if one.way == "up" else not one.sent for one in own)

    def _heard(self, text: str) -> None:
        place = next(
            (
                i
                for i, one in enumerate(self._messages)
                if (one.transport, one.way, one.arrived) == (self._transport, "up", "") and _is_same(one.sent, text)
            ),
            None,
        )
        if place is not None:
            self._replace(place, arrived=text)

    def _said(self, text: str) -> None:
        place = next(
            (
                i
                for i, one in enumerate(self._messages)
                if (one.transport, one.way, one.sent) == (self._transport, "down", "")
                and _first_line(one.arrived) == _first_line(text)
            ),
            None,
        )
        if place is None:
            self._note("down", text.encode(), b"")
        else:
            self._replace(place, sent=text)

    def _now_ms(self) -> float:
        return round((time.monotonic() - self._began) * 1000, 1)

    def _replace(self, place: int, at_ms: float | None = None, **texts: str) -> None:
        one = self._messages[place]
        at_ms = one.at_ms if at_ms is None else at_ms
        self._messages[place] = SipMessage(
            one.transport, one.way, at_ms, texts.get("sent", one.sent), texts.get("arrived", one.arrived)
        )


def _first_line(text: str) -> str:
    """Of an answer, with the request it answers: what nobody changes without breaking it."""
    sequence = re.search(r"(?im)^cseq[ \t]*:[ \t]*(.*?)\r?$", text)
    return f"{text.partition(chr(13))[0]} {sequence[1] if sequence else ''}"


def _is_same(sent: str, heard: str) -> bool:
    """Whether a request that arrived is this one, whatever was changed in it: by its method and number."""
    return _first_line(sent).split(" ")[0] == _first_line(heard).split(" ")[0] and (
        _first_line(sent).split(" ")[-2:] == _first_line(heard).split(" ")[-2:]
    )
