"""A registrar and a called party for one probe: its messages are answered, and told word by word as they arrived.

Only while a session that has shown the key lasts, and only to the address that session came from. What was received and
what was sent, messages and media, is told on the control connection, where nothing on the way can change it.
"""

from __future__ import annotations

import ipaddress
import secrets
import selectors
import socket
import ssl
import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from functools import partial
from typing import Any

from tarnfell.farend.certificate import context, fingerprint
from tarnfell.farend.offer import Offer, open_sockets
from tarnfell.media.channel import Channel
from tarnfell.media.short_call import ShortCall
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.wire import WireError, sip
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.signalling import MAX_MESSAGES

LONGEST_S = 60.0
HANDSHAKE_S = 3.0
DSCP = 46
"""Of media: EF, as a phone marks it."""
USER, REALM = "desk", "tarnfell"
TAKEN = f"Port {sip.PORT} is taken at the far end: signalling cannot be tried there now."
_AT_ONCE = 16


class PortTaken(RuntimeError):
    """Somebody else has the port for signalling; the text says which."""


def serve_signalling(channel: Channel, offer: Offer, asked: Any, password: str) -> None:
    """Until the probe ends the connection, or for LONGEST_S.

    What is ``asked`` may name the address by which this far end is reached, which behind translation is not its own.

    Raises PortTaken, Refused where no media port is free, ChannelClosed, WireError or TimeoutError.
    """
    with ExitStack() as opened:
        try:
            datagrams = opened.enter_context(open_media_socket(offer.family, offer.address, sip.PORT))
            plain_text = opened.enter_context(socket.create_server((offer.address, sip.PORT), family=offer.family))
        except OSError:
            raise PortTaken(TAKEN) from None
        (media,) = open_sockets(offer, [DSCP])
        opened.enter_context(media)
        listeners = {plain_text: _Listener("tcp")}
        if offer.certificate:
            try:
                secured = socket.create_server((offer.address, sip.TLS_PORT), family=offer.family)
                listeners[opened.enter_context(secured)] = _Listener("tls", context(offer.certificate))
            except OSError:
                pass  # taken, or the file is gone: the probe is told of no port for it
        certificate = fingerprint(offer.certificate) if offer.certificate and len(listeners) > 1 else ""
        _Desk(channel, datagrams, listeners, media, _reached_at(asked, offer), password, certificate).serve()


def _reached_at(asked: Any, offer: Offer) -> str:
    try:
        return str(ipaddress.ip_address(str(asked["address"])))
    except (KeyError, TypeError, ValueError):
        return offer.address


@dataclass(frozen=True)
class _Listener:
    transport: str
    security: ssl.SSLContext | None = None

    def taken(self, listener: socket.socket, peer: str) -> socket.socket | None:
        """The next stream, where it is the peer's; None where it is not, or nothing came of it."""
        try:
            stream, source = listener.accept()
        except OSError:
            return None
        try:
            if source[0] != peer:
                raise OSError("somebody else")
            stream.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            if self.security:
                stream.settimeout(HANDSHAKE_S)
                stream = self.security.wrap_socket(stream, server_side=True)
            stream.setblocking(False)
        except OSError:
            stream.close()
            return None
        return stream


def _send_to(sock: socket.socket, address: Any, data: bytes) -> None:
    sock.sendto(data, address)


class _Desk:
    def __init__(
        self, channel: Channel, datagrams: socket.socket, listeners: dict[socket.socket, _Listener],
        media: socket.socket, address: str, password: str, certificate: str,
    ) -> None:  # fmt: skip
        self._channel, self._datagrams, self._listeners = channel, datagrams, listeners
        self._media, self._call = media, ShortCall(media, channel.peer_address(), DSCP)
        self._address, self._password, self._certificate = address, password, certificate
        self._challenge = sip.Challenge(REALM, secrets.token_hex(12))
        self._tag = secrets.token_hex(4)
        self._streams: dict[socket.socket, tuple[str, bytes]] = {}
        """By which transport, and what came of a message that is not whole."""
        self._told = 0

    def serve(self) -> None:
        told: dict[str, object] = {"port": sip.PORT, "media": True}
        if self._certificate:
            told.update(tls_port=sip.TLS_PORT, certificate=self._certificate)
        self._channel.send({"accepted": told})
        end = time.monotonic() + LONGEST_S
        try:
            with selectors.DefaultSelector() as ready:
                for sock in (self._datagrams, self._media, self._channel.socket, *self._listeners):
                    ready.register(sock, selectors.EVENT_READ)
                while time.monotonic() < end and self._told < MAX_MESSAGES:
                    for found, _ in ready.select(self._call.turn()):
                        if found.fileobj is self._channel.socket:
                            self._channel.receive_json()
                            return
                        self._look_at(found.fileobj, ready)  # type: ignore[arg-type]
        finally:
            for stream in self._streams:
                stream.close()

    def _look_at(self, sock: socket.socket, ready: selectors.BaseSelector) -> None:
        if sock is self._media:
            return  # the call's next turn takes it
        if sock is self._datagrams:
            self._take_datagrams()
        elif sock in self._listeners:
            listener = self._listeners[sock]
            stream = listener.taken(sock, self._channel.peer_address())
            if stream is None:
                return
            if len(self._streams) >= _AT_ONCE:
                stream.close()
                return
            self._streams[stream] = (listener.transport, b"")
            ready.register(stream, selectors.EVENT_READ)
        elif not self._take_stream(sock):
            ready.unregister(sock)
            del self._streams[sock]
            sock.close()

    def _take_datagrams(self) -> None:
        for _ in range(_AT_ONCE):
            try:
                arrival = receive(self._datagrams)
            except OSError:
                return
            if arrival is None:
                return
            if arrival.source[0] == self._channel.peer_address():
                send = partial(_send_to, self._datagrams, arrival.source)
                self._answer("udp", arrival.data, arrival.source, send)

    def _take_stream(self, stream: socket.socket) -> bool:
        """Whether it goes on."""
        transport, held = self._streams[stream]
        try:
            data = stream.recv(sip.MAX_BYTES)
            while isinstance(stream, ssl.SSLSocket) and stream.pending() and len(data) <= sip.MAX_BYTES:
                data += stream.recv(sip.MAX_BYTES)
        except (ssl.SSLWantReadError, BlockingIOError):
            return True  # a part of a record, of which the rest is to come
        except OSError:
            return False
        whole, rest = sip.whole_messages(held + data)
        for message in whole:
            self._answer(transport, message, stream.getpeername(), stream.sendall)
        self._streams[stream] = (transport, rest)
        return bool(data) and len(rest) <= sip.MAX_BYTES

    def _answer(self, transport: str, data: bytes, source: tuple[str, int], send: Callable[[bytes], None]) -> None:
        try:
            asked = sip.Message.parse(data)
        except WireError:
            return
        if asked.status is not None:
            return
        self._tell(transport, heard=data)
        if asked.method == "INVITE":
            self._call = ShortCall(self._media, self._channel.peer_address(), DSCP)
        elif asked.method == "BYE":
            self._call.take()  # what came just before it
            sent, arrived = plain(self._call.sent()), plain(self._call.arrived())
            self._channel.send({"transport": transport, "call": {"sent": sent, "arrived": arrived}})
        for answer in self._answers(asked, transport, source):
            text = answer.serialize()
            self._tell(transport, said=text)
            try:
                send(text)
            except OSError:
                return

    def _tell(self, transport: str, **what: bytes) -> None:
        self._told += 1
        ((kind, data),) = what.items()
        self._channel.send({"transport": transport, kind: data.decode("utf-8", "replace")})

    def _answers(self, asked: sip.Message, transport: str, source: tuple[str, int]) -> list[sip.Message]:
        def answer(status: str, *more: tuple[str, str], body: str = "") -> sip.Message:
            return sip.answer(asked, status, source, self._tag, *more, body=body)

        host = f"[{self._address}]" if ":" in self._address else self._address
        port = sip.TLS_PORT if transport == "tls" else sip.PORT
        own = ("Contact", f"<sip:{USER}@{host}:{port};transport={transport}>")
        if asked.method in ("OPTIONS", "BYE"):
            return [answer("200 OK", ("Allow", "OPTIONS, REGISTER, INVITE, ACK, BYE"))]
        if asked.method == "REGISTER":
            shown = asked.get("authorization")
            if shown is None:
                return [answer("401 Unauthorized", ("WWW-Authenticate", self._challenge.header()))]
            if not sip.is_met(shown, self._challenge, USER, self._password, "REGISTER"):
                return [answer("403 Forbidden")]
            return [answer("200 OK", ("Contact", f"{asked.get('contact') or ''};expires=60"))]
        if asked.method == "INVITE":
            body = sip.description(self._address, self._media.getsockname()[1])
            ringing = answer("180 Ringing", own)
            return [ringing, answer("200 OK", own, ("Content-Type", "application/sdp"), body=body)]
        return []
