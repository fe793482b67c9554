"""A registrar and a called party for one probe: its messages are answered, and told word by word as they arrived.

Only while a session that has shown the key lasts, and only to the address that session came from. What was received and
what was sent is told on the control connection, where nothing on the way can change it.
"""

from __future__ import annotations

import secrets
import selectors
import socket
import time
from collections.abc import Callable
from functools import partial
from typing import Any

from tarnfell.media.channel import Channel
from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.wire import WireError, sip
from tarnfell.wire.kinds.signalling import MAX_MESSAGES

LONGEST_S = 60.0
USER, REALM = "desk", "tarnfell"
TAKEN = f"Port {sip.PORT} is taken at the far end: signalling cannot be tried there now."
_AT_ONCE = 16


class PortTaken(RuntimeError):
    """Somebody else has the port for signalling; the text says which."""


def serve_signalling(channel: Channel, family: int, address: str, password: str) -> None:
    """Until the probe ends the connection, or for LONGEST_S.

    Raises PortTaken, ChannelClosed, WireError or TimeoutError.
    """
    try:
        datagrams = open_media_socket(family, address, sip.PORT)
    except OSError:
        raise PortTaken(TAKEN) from None
    with datagrams:
        try:
            listener = socket.create_server((address, sip.PORT), family=family)
        except OSError:
            raise PortTaken(TAKEN) from None
        with listener:
            _Desk(channel, datagrams, listener, address, password).serve()


def _send_to(sock: socket.socket, address: Any, data: bytes) -> None:
    sock.sendto(data, address)


class _Desk:
    def __init__(
        self, channel: Channel, datagrams: socket.socket, listener: socket.socket, address: str, password: str
    ) -> None:
        self._channel, self._datagrams, self._listener = channel, datagrams, listener
        self._address, self._password = address, password
        self._challenge = sip.Challenge(REALM, secrets.token_hex(12))
        self._tag = secrets.token_hex(4)
        self._streams: dict[socket.socket, bytes] = {}
        self._told = 0

    def serve(self) -> None:
        self._channel.send({"accepted": {"port": sip.PORT}})
        end = time.monotonic() + LONGEST_S
        self._listener.setblocking(False)
        try:
            with selectors.DefaultSelector() as ready:
                for sock in (self._datagrams, self._listener, self._channel.socket):
                    ready.register(sock, selectors.EVENT_READ)
                while time.monotonic() < end and self._told < MAX_MESSAGES:
                    for found, _ in ready.select(1.0):
                        if found.fileobj is self._channel.socket:
                            self._channel.receive_json()
                            return
                        self._look_at(found.fileobj, ready)  # type: ignore[arg-type]
        finally:
            for stream in self._streams:
                stream.close()

    def _look_at(self, sock: socket.socket, ready: selectors.BaseSelector) -> None:
        if sock is self._datagrams:
            self._take_datagrams()
        elif sock is self._listener:
            try:
                stream, peer = sock.accept()
            except OSError:
                return
            if peer[0] != self._channel.peer_address() or len(self._streams) >= _AT_ONCE:
                stream.close()
                return
            stream.setblocking(False)
            stream.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self._streams[stream] = b""
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
        try:
            data = stream.recv(sip.MAX_BYTES)
        except OSError:
            return False
        held = self._streams[stream] + data
        while b"\r\n\r\n" in held:
            head = held.partition(b"\r\n\r\n")[0] + b"\r\n\r\n"
            try:
                length = len(head) + sip.length_of(head)
            except WireError:
                return False
            if len(held) < length:
                break
            self._answer("tcp", held[:length], stream.getpeername(), stream.sendall)
            held = held[length:]
        self._streams[stream] = held
        return bool(data) and len(held) <= sip.MAX_BYTES

    def _answer(self, transport: str, data: bytes, source: tuple[str, int], send: Callable[[bytes], None]) -> None:
        try:
            asked = sip.Message.parse(data)
        except WireError:
            return
        if asked.status is not None:
            return
        self._tell(transport, heard=data)
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
            vias = [("Via", via) for via in asked.all("via")]
            top = (vias[0][1] if vias else "").replace(";rport", f";rport={source[1]};received={source[0]}", 1)
            to = asked.get("to") or ""
            tagged = to if ";tag=" in to else f"{to};tag={self._tag}"
            kept = [(name, asked.get(name) or "") for name in ("From", "Call-ID", "CSeq")]
            return sip.Message(f"SIP/2.0 {status}", (("Via", top), *vias[1:], ("To", tagged), *kept, *more), body)

        host = f"[{self._address}]" if ":" in self._address else self._address
        own = ("Contact", f"<sip:{USER}@{host}:{sip.PORT};transport={transport}>")
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
            body = sip.description(self._address, 20000)
            ringing = answer("180 Ringing", own)
            return [ringing, answer("200 OK", own, ("Content-Type", "application/sdp"), body=body)]
        return []
