"""A phone's side of SIP with one other end over one transport (RFC 3261): requests sent, answers awaited."""

from __future__ import annotations

import hashlib
import secrets
import select
import socket
import ssl
import time

from tarnfell.media.sockets import open_media_socket, receive
from tarnfell.wire import WireError, sip
from tarnfell.wire.kinds.signalling import SipTransport

TRIES, WAIT_S = 3, 1.0
_MOST_AT_ONCE = 1 << 16


class Talk:
    """What is sent and what arrives is told to ``on_sent`` and ``on_arrived``, for who derives from this."""

    def __init__(
        self, family: int, own: str, far: tuple[str, int], transport: SipTransport, user: str, domain: str,
        security: ssl.SSLContext | None = None, server_name: str = "",
    ) -> None:  # fmt: skip
        self.transport, self.own, self.far = transport, own, far
        self._user, self._domain = user, domain
        self._security, self._server_name = security, server_name or far[0]
        self.certificate = ""
        """SHA-256 of the one the other end showed."""
        self._rest = b""
        self._over = False
        """The connection has ended."""
        self._call, self._tag = secrets.token_hex(8), secrets.token_hex(4)
        if transport == "udp":
            self.sock = open_media_socket(family, own)
        else:
            self.sock = socket.socket(family, socket.SOCK_STREAM)
            self.sock.bind((own, 0))

    def on_sent(self, data: bytes) -> None:
        """A message has left."""

    def on_arrived(self, data: bytes) -> None:
        """A message has come."""

    def beside(self) -> list[socket.socket]:
        """What else is waited for meanwhile."""
        return []

    def look_beside(self, for_s: float = 0.0) -> None:
        """Take what came there; for so long where something is owed."""

    def close(self) -> None:
        self.sock.close()

    def connect(self) -> None:
        """Nothing to do over UDP. Raises OSError (of ssl among them)."""
        if self.transport == "udp":
            return
        self.sock.settimeout(TRIES * WAIT_S)
        self.sock.connect(self.far)
        self.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        if self._security:
            secured = self._security.wrap_socket(self.sock, server_hostname=self._server_name)
            self.sock = secured
            self.certificate = hashlib.sha256(secured.getpeercert(binary_form=True) or b"").hexdigest()
        self.sock.setblocking(False)

    def request(self, method: str, number: int, *more: tuple[str, str], to: str = "", body: str = "") -> sip.Message:
        """To the other end itself, or for an invitation and what follows it to the user there."""
        port = self.sock.getsockname()[1]
        host, domain = _in_brackets(self.own), _in_brackets(self._domain)
        who = f"<sip:{self._user}@{domain}>"
        uri = f"sip:{domain}" if method in ("OPTIONS", "REGISTER") else f"sip:{self._user}@{domain}"
        branch = f"z9hG4bK{secrets.token_hex(6)}"
        return sip.Message(
            f"{method} {uri} SIP/2.0",
            (
                ("Via", f"SIP/2.0/{self.transport.upper()} {host}:{port};branch={branch};rport"),
                ("Max-Forwards", "70"),
                ("From", f"{who};tag={self._tag}"),
                ("To", to or who),
                ("Call-ID", f"{self._call}@{host}"),
                ("CSeq", f"{number} {method}"),
                ("Contact", f"<{self.contact()}>"),
                *more,
            ),
            body,
        )

    def contact(self) -> str:
        port = self.sock.getsockname()[1]
        return f"sip:{self._user}@{_in_brackets(self.own)}:{port};transport={self.transport}"

    def ask(self, request: sip.Message) -> sip.Message | None:
        """The final answer; over UDP the request is sent again while none comes (RFC 3261 §17.1.1.2)."""
        for _ in range(TRIES if self.transport == "udp" else 1):
            self.send(request)
            until = time.monotonic() + (WAIT_S if self.transport == "udp" else TRIES * WAIT_S)
            while (left := until - time.monotonic()) > 0:
                answer = self.await_answer(request, left)
                if answer is not None:
                    return answer
                if self._over:
                    return None
        return None

    def await_answer(self, request: sip.Message, for_s: float) -> sip.Message | None:
        """What comes within so long, or at once where something else comes sooner."""
        wanted = request.get("cseq")
        found = None
        for message in self.arrivals(for_s):
            is_final = (message.status or 0) >= 200 and message.get("cseq") == wanted
            found = message if is_final and found is None else found
        return found

    def arrivals(self, for_s: float) -> list[sip.Message]:
        """Messages that can be read, of those that came."""
        pending = isinstance(self.sock, ssl.SSLSocket) and self.sock.pending()
        select.select([self.sock, *self.beside()], [], [], 0 if pending else for_s)
        self.look_beside()
        found = []
        for data in self._arrived():
            self.on_arrived(data)
            try:
                found.append(sip.Message.parse(data))
            except WireError:
                continue
        return found

    def send(self, message: sip.Message) -> None:
        data = message.serialize()
        try:
            if self.transport == "udp":
                self.sock.sendto(data, self.far)
            else:
                self.sock.sendall(data)
        except OSError:
            pass  # then it does not arrive
        self.on_sent(data)

    def _arrived(self) -> list[bytes]:
        if self.transport == "udp":
            found: list[bytes] = []
            while True:
                try:
                    arrival = receive(self.sock)
                except OSError:
                    return found
                if arrival is None:
                    return found
                found.append(arrival.data)
        try:
            came = self.sock.recv(_MOST_AT_ONCE)
        except (BlockingIOError, ssl.SSLWantReadError):
            return []
        except OSError:
            came = b""
        self._over = not came
        whole, self._rest = sip.whole_messages(self._rest + came)
        return whole


def _in_brackets(address: str) -> str:
    return f"[{address}]" if ":" in address else address
