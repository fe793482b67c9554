"""One answer over HTTP/1.1 (RFC 9112), with the time that each step took."""

from __future__ import annotations

import http.client
import socket
import ssl
import time

from tarnfell.wire.kinds.check import HttpTiming, ServiceAsked, ServiceFacts

BODY_S = 10.0
MOST_BYTES = 1 << 20
_PART = 1 << 16
_USER_AGENT = "tarnfell-check"


class _Given(http.client.HTTPConnection):
    """Over a connection that stands already."""

    def __init__(self, host: str, port: int, sock: socket.socket) -> None:
        super().__init__(host, port)
        self.sock = sock


def fetch(one: ServiceAsked, sock: socket.socket, name_ms: float, connect_ms: float, tls_ms: float) -> ServiceFacts:
    """Ask for the path over a connection that stands. An answer of any status is one, but for failures of the server.

    Raises OSError; http.client.HTTPException for what is no HTTP.
    """
    connection = _Given(one.host, one.port, sock)
    began = time.monotonic()
    connection.request("GET", one.path, headers={"User-Agent": _USER_AGENT, "Connection": "close"})
    response = connection.getresponse()
    first = time.monotonic()
    length = 0
    whole = False
    try:
        while length < MOST_BYTES and time.monotonic() - first < BODY_S:
            part = response.read(min(_PART, MOST_BYTES - length))
            if not part:
                whole = not response.length  # of what was announced nothing is missing
                break
            length += len(part)
    except (OSError, http.client.HTTPException):
        pass  # what came of it counts
    timing = HttpTiming(
        name_ms, connect_ms, tls_ms, (first - began) * 1000, (time.monotonic() - first) * 1000, response.status,
        length, whole,
    )  # fmt: skip
    took_ms = name_ms + connect_ms + tls_ms + timing.first_byte_ms
    if response.status >= 500:
        says = f"it answers, but with {response.status} {response.reason}".rstrip()
        return ServiceFacts(one, "other", took_ms, says, http=timing)
    return ServiceFacts(one, "open", took_ms, f"{response.status} {response.reason}".rstrip(), http=timing)


def looked_up(host: str, port: int) -> tuple[str, float]:
    """An address of a name and the milliseconds it took. Raises socket.gaierror."""
    began = time.monotonic()
    address = str(socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0][4][0])
    return address, 0.0 if address == host else (time.monotonic() - began) * 1000


def secured(sock: socket.socket, host: str, context: ssl.SSLContext) -> tuple[ssl.SSLSocket, float]:
    """With the milliseconds of the handshake. Raises OSError."""
    began = time.monotonic()
    inside = context.wrap_socket(sock, server_hostname=host)
    return inside, (time.monotonic() - began) * 1000
