"""Registering with a far end and calling it, over UDP, TCP and TLS: each message as it was sent, and as it arrived.

The far end tells on the control connection, which nothing can change, what it received and what it sent. A call it
answers carries a second of media both ways, between the ports that the two descriptions of the session name.
"""

from __future__ import annotations

import re
import secrets
import select
import socket
import ssl
import time
from collections.abc import Callable
from dataclasses import replace

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.media.short_call import LENGTH_S, ShortCall
from tarnfell.media.sockets import open_media_socket
from tarnfell.probe.asking.sip_talk import Talk
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import Unchecked, WireError, sip
from tarnfell.wire.kinds.fields import read
from tarnfell.wire.kinds.signalling import (
    ArrivedPackets,
    SentPackets,
    SignallingFacts,
    SipCall,
    SipMessage,
    SipTransport,
)

USER = "desk"
TELL_S = 0.5
LATE_S = 0.5
"""How long packets that are under way when the last has left are waited for."""
OTHERS_S = 0.25
"""After all has come here: the far end may wait for the last of what was sent to it."""
DSCP = 46


def signalling(host: str, port: int, key: bytes, go_on: Callable[[], bool] = lambda: True) -> SignallingFacts:
    """What went to and fro until it was stopped."""
    try:
        channel, family, purpose = connect(host, port, key)
    except CallError as error:
        return SignallingFacts(failure=str(error))
    known = SignallingFacts()
    try:
        channel.send({"signalling": {"address": channel.peer_address()}})
        answer = channel.receive_json()
        if "accepted" not in answer:
            return SignallingFacts(failure=str(answer.get("refused", "it does not know how")))
        told = answer["accepted"]
        tls_port, certificate = told.get("tls_port"), str(told.get("certificate", ""))
        transports: tuple[SipTransport, ...] = ("udp", "tcp", "tls") if tls_port and certificate else ("udp", "tcp")
        known = SignallingFacts(tls_port=tls_port if certificate else None, certificate=certificate)
        began = time.monotonic()
        for transport in transports:
            if not go_on():
                break
            to_port = tls_port if transport == "tls" else sip.PORT
            talk = _WithFarEnd(
                channel, family, transport, to_port, purpose("sip").hex(), began, has_media=told.get("media") is True
            )
            try:
                talk.hold(go_on)
            finally:
                talk.close()
                known = replace(
                    known,
                    messages=(*known.messages, *talk.messages),
                    calls=(*known.calls, *talk.calls),
                    certificate_seen=known.certificate_seen or talk.certificate,
                )
        return known
    except (ChannelClosed, TimeoutError, WireError, OSError, KeyError, TypeError, AttributeError) as error:
        return replace(known, failure=f"The far end went away: {error}")
    finally:
        channel.close()


class _WithFarEnd(Talk):
    """One registration and one call over one transport."""

    def __init__(
        self, channel: Channel, family: int, transport: SipTransport, port: int, password: str, began: float,
        has_media: bool,
    ) -> None:  # fmt: skip
        own, far = channel.own_address(), channel.peer_address()
        super().__init__(family, own, (far, port), transport, USER, far, _any_certificate(transport))
        self._channel, self._password, self._began = channel, password, began
        self._family, self._has_media = family, has_media
        self.messages: list[SipMessage] = []
        self.calls: list[SipCall] = []

    def hold(self, go_on: Callable[[], bool]) -> None:
        """In the order of a phone's morning; what is not answered ends it."""
        try:
            self.connect()
        except OSError:
            self._note("up", self.request("OPTIONS", 1).serialize(), b"")
            return
        for step in (self._options, self._register, self._invite):
            if not go_on() or not step():
                return

    def _options(self) -> bool:
        return self._answered(self.request("OPTIONS", 1)) is not None

    def _register(self) -> bool:
        answer = self._answered(self.request("REGISTER", 2))
        if answer is None or answer.status != 401:
            return answer is not None
        try:
            challenge = sip.Challenge.parse(answer.get("www-authenticate") or "")
        except WireError:
            return True  # it was changed on the way, which the messages show
        uri = self.request("REGISTER", 3).start.split(" ")[1]
        shown = sip.authorization(challenge, USER, self._password, "REGISTER", uri, secrets.token_hex(8))
        return self._answered(self.request("REGISTER", 3, ("Authorization", shown))) is not None

    def _invite(self) -> bool:
        with open_media_socket(self._family, self.own, 0, DSCP) as media:
            body = sip.description(self.own, media.getsockname()[1])
            answer = self._answered(self.request("INVITE", 4, ("Content-Type", "application/sdp"), body=body))
            if answer is None or answer.status != 200:
                return answer is not None
            to = answer.get("to") or ""
            self.send(self.request("ACK", 4, to=to))
            self.look_beside(TELL_S)
            if self._has_media:  # older far ends answer calls without any
                call = ShortCall(media, self.far[0], DSCP)
                elsewhere = self._talk(call, answer.body)
                self.calls.append(SipCall(self.transport, call.sent(), call.arrived(), elsewhere=elsewhere))
            return self._answered(self.request("BYE", 5, to=to)) is not None

    def _talk(self, call: ShortCall, description: str) -> str:
        """Media both ways; where they were wanted elsewhere, that, and none are sent."""
        wanted = sip.media_of(description)
        if wanted is None:
            return "nowhere: the description of the session names no media that can be read"
        if wanted[0] != self.far[0]:
            return f"{wanted[0]} port {wanted[1]}"
        call.begin(wanted)
        until = time.monotonic() + LENGTH_S + LATE_S
        is_whole = False
        while (left := until - time.monotonic()) > 0:
            due_s = call.turn()
            if call.has_all and not is_whole:
                is_whole, until = True, min(until, time.monotonic() + OTHERS_S)
            select.select([call.socket, self._channel.socket], [], [], min(left, due_s))
            self.look_beside()
        call.take()
        return ""

    def _answered(self, request: sip.Message) -> sip.Message | None:
        answer = self.ask(request)
        if answer is not None:
            self.look_beside(TELL_S)
        return answer

    def beside(self) -> list[socket.socket]:
        return [self._channel.socket]

    def on_sent(self, data: bytes) -> None:
        self._note("up", data, b"")

    def on_arrived(self, data: bytes) -> None:
        """Beside what the far end has told that it sent, or will tell."""
        waiting = next((i for i, one in enumerate(self.messages) if self._fits(one, data)), None)
        if waiting is None:
            self._note("down", b"", data)
        else:
            self._replace(waiting, self._now_ms(), arrived=data.decode("utf-8", "replace"))

    def look_beside(self, for_s: float = 0.0) -> None:
        """Take what the far end tells; until both ends of every message are known, or for so long."""
        until = time.monotonic() + for_s
        while self._channel.waiting(max(0.0, until - time.monotonic()) if self._is_owed() else 0.0):
            told = self._channel.receive_json()
            if told.get("transport") != self.transport:
                continue
            if "heard" in told:
                self._heard(str(told["heard"]))
            elif "said" in told:
                self._said(str(told["said"]))
            elif "call" in told and self.calls:
                self._keep_call(told["call"])

    def _keep_call(self, told: Unchecked) -> None:
        sent, arrived = read(SentPackets, told["sent"]), read(ArrivedPackets, told["arrived"])
        self.calls[-1] = replace(self.calls[-1], far_sent=sent, far_arrived=arrived)

    def _note(self, way: str, sent: bytes, arrived: bytes) -> None:
        texts = (data.decode("utf-8", "replace") for data in (sent, arrived))
        self.messages.append(SipMessage(self.transport, way, self._now_ms(), *texts))  # type: ignore[arg-type]

    def _fits(self, one: SipMessage, data: bytes) -> bool:
        return (one.way, one.arrived) == ("down", "") and _first_line(one.sent) == _first_line(
            data.decode("utf-8", "replace")
        )

    def _is_owed(self) -> bool:
        return any(not one.arrived if one.way == "up" else not one.sent for one in self.messages)

    def _heard(self, text: str) -> None:
        place = next(
            (
                i
                for i, one in enumerate(self.messages)
                if (one.way, one.arrived) == ("up", "") and _is_same(one.sent, text)
            ),
            None,
        )
        if place is not None:
            self._replace(place, arrived=text)

    def _said(self, text: str) -> None:
        place = next(
            (
                i
                for i, one in enumerate(self.messages)
                if (one.way, one.sent) == ("down", "") and _first_line(one.arrived) == _first_line(text)
            ),
            None,
        )
        if place is None:
            self._note("down", text.encode(), b"")
        else:
            self._replace(place, sent=text)

    def _now_ms(self) -> float:
        return round((time.monotonic() - self._began) * 1000, 1)

    def _replace(self, place: int, at_ms: float | None = None, sent: str = "", arrived: str = "") -> None:
        one = self.messages[place]
        at_ms = one.at_ms if at_ms is None else at_ms
        self.messages[place] = replace(one, at_ms=at_ms, sent=sent or one.sent, arrived=arrived or one.arrived)


def _any_certificate(transport: SipTransport) -> ssl.SSLContext | None:
    """The far end tells by its key which certificate is its own; nobody else need vouch for it."""
    if transport != "tls":
        return None
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    made.check_hostname = False
    made.verify_mode = ssl.CERT_NONE
    return made


def _first_line(text: str) -> str:
    """Of an answer, with the request it answers: what nobody changes without breaking it."""
    sequence = re.search(r"(?im)^cseq[ \t]*:[ \t]*(.*?)\r?$", text)
    return f"{text.partition(chr(13))[0]} {sequence[1] if sequence else ''}"


def _is_same(sent: str, heard: str) -> bool:
    """Whether a request that arrived is this one, whatever was changed in it: by its method and number."""
    return _first_line(sent).split(" ")[0] == _first_line(heard).split(" ")[0] and (
        _first_line(sent).split(" ")[-2:] == _first_line(heard).split(" ")[-2:]
    )
