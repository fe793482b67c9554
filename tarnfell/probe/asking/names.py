"""Name servers asked for names, each by itself: what they answer, how soon, and over which transport."""

from __future__ import annotations

import secrets
import socket
import struct
import time
from collections.abc import Callable, Iterator, Sequence
from typing import Literal

from tarnfell.wire import WireError, dns
from tarnfell.wire.kinds.check import NameFacts

SLOW_MS = 200.0
WAIT_S = 1.5
TRIES = 2
_LAST_LOOK_S = 0.01
Transport = Literal["udp", "tcp"]


def ask(server: str, name: str, kind: int = dns.A, transport: Transport = "udp", port: int = dns.PORT) -> NameFacts:
    """Asked again once where nothing comes back over UDP; over TCP where the answer does not fit."""
    try:
        if transport == "udp":
            told, truncated = _over_udp(server, name, kind, port)
            if not truncated:
                return told
        return _over_tcp(server, name, kind, port)
    except WireError as error:
        return NameFacts(server, name, transport, None, None, failure=str(error))


def ask_each(servers: Sequence[str], names: Sequence[str], go_on: Callable[[], bool]) -> Iterator[NameFacts]:
    """Each server for each name, told as it answers. A slow answer is asked for once more, and the faster of both told:
    a cold cache and a busy moment pass. A silent server is asked over TCP, and then no more."""
    for server in servers:
        for name in names:
            if not go_on():
                return
            answer = ask(server, name)
            if answer.took_ms is not None and answer.took_ms > SLOW_MS:
                again = ask(server, name)
                answer = again if again.took_ms is not None and again.took_ms < answer.took_ms else answer
            yield answer
            if answer.rcode is None:
                # Silent over UDP alone, or altogether? To the next name it would be the same.
                yield ask(server, name, transport="tcp")
                break


def _over_udp(server: str, name: str, kind: int, port: int) -> tuple[NameFacts, bool]:
    """And whether there is more to say than fits."""
    family = socket.AF_INET6 if ":" in server else socket.AF_INET
    failure = "no answer"
    for _ in range(TRIES):
        number = secrets.randbelow(1 << 16)
        with socket.socket(family, socket.SOCK_DGRAM) as sock:
            began = time.monotonic()
            try:
                sock.connect((server, port))
                sock.send(dns.question(number, name, kind))
                while True:
                    left = began + WAIT_S - time.monotonic()
                    sock.settimeout(max(_LAST_LOOK_S, left))
                    data = sock.recv(4096)
                    took_ms = (time.monotonic() - began) * 1000
                    try:
                        said = dns.answer(data, number, name, kind)
                    except WireError:
                        if left <= 0:
                            raise socket.timeout from None
                        continue  # forged, or late for an earlier question; what is asked for may still come
                    return NameFacts(server, name, "udp", took_ms, said.rcode, said.addresses), said.truncated
            except socket.timeout:
                failure = "no answer"
            except ConnectionRefusedError:
                failure = "no name server listens there"
            except OSError as error:
                failure = error.strerror or str(error)
    return NameFacts(server, name, "udp", None, None, failure=failure), False


def _over_tcp(server: str, name: str, kind: int, port: int) -> NameFacts:
    number = secrets.randbelow(1 << 16)
    began = time.monotonic()
    try:
        with socket.create_connection((server, port), WAIT_S) as sock:
            message = dns.question(number, name, kind)
            sock.sendall(struct.pack("!H", len(message)) + message)
            (length,) = struct.unpack("!H", _exactly(sock, 2))
            said = dns.answer(_exactly(sock, length), number, name, kind)
    except socket.timeout:
        return NameFacts(server, name, "tcp", None, None, failure="no answer")
    except ConnectionRefusedError:
        return NameFacts(server, name, "tcp", None, None, failure="no name server listens there")
    except OSError as error:
        return NameFacts(server, name, "tcp", None, None, failure=error.strerror or str(error))
    return NameFacts(server, name, "tcp", (time.monotonic() - began) * 1000, said.rcode, said.addresses)


def _exactly(sock: socket.socket, count: int) -> bytes:
    body = b""
    while len(body) < count:
        part = sock.recv(count - len(body))
        if not part:
            raise WireError("DNS: the server closed the connection before it had answered.")
        body += part
    return body
