"""Services asked whether they answer: TCP that opens, TLS whose certificate is looked at, UDP by a fitting request."""

from __future__ import annotations

import hashlib
import http.client
import secrets
import socket
import ssl
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

from tarnfell.probe.asking.behaviour import behaviour
from tarnfell.probe.asking.http import fetch, looked_up, secured
from tarnfell.wire import WireError, dns, stun
from tarnfell.wire.kinds.check import MAX_SERVICES, ServiceAsked, ServiceFacts

WAIT_S = 3.0
TRIES_UDP = 3


def ask_all(services: Sequence[ServiceAsked], go_on: Callable[[], bool] = lambda: True) -> tuple[ServiceFacts, ...]:
    """In the order of asking, all at once, so that as many as may be asked and are all silent are over in ten seconds.

    What was not asked any more, because it was stopped, is left out.
    """
    with ThreadPoolExecutor(max_workers=max(1, min(MAX_SERVICES, len(services)))) as pool:
        found = pool.map(lambda one: _ask(one) if go_on() else None, services)
        return tuple(one for one in found if one is not None)


def _ask(one: ServiceAsked) -> ServiceFacts:
    began = time.monotonic()
    try:
        if one.protocol in ("stun", "dns", "sip"):
            return _udp(one)
        return _tcp(one)
    except socket.timeout:
        return ServiceFacts(one, "filtered", says="no answer")
    except ConnectionRefusedError:
        return ServiceFacts(one, "refused", (time.monotonic() - began) * 1000, "refused")
    except socket.gaierror:
        return ServiceFacts(one, "nameless", says=f"the name {one.host} cannot be looked up")
    except OSError as error:
        return ServiceFacts(one, "filtered", says=error.strerror or str(error))


def _tcp(one: ServiceAsked) -> ServiceFacts:
    """Name, connection, TLS and HTTP, as far as the protocol goes; each is timed by itself."""
    address, name_ms = looked_up(one.host, one.port)
    began = time.monotonic()
    with socket.create_connection((address, one.port), WAIT_S) as sock:
        connect_ms = (time.monotonic() - began) * 1000
        if one.protocol == "tcp":
            return ServiceFacts(one, "open", name_ms + connect_ms)
        if one.protocol == "http":
            return _http(one, sock, name_ms, connect_ms, 0.0)
        return _tls(one, sock, name_ms, connect_ms)


def _http(one: ServiceAsked, sock: socket.socket, name_ms: float, connect_ms: float, tls_ms: float) -> ServiceFacts:
    try:
        return fetch(one, sock, name_ms, connect_ms, tls_ms)
    except socket.timeout:
        return ServiceFacts(one, "stalled", says="it opens, but no answer to the request comes")
    except http.client.HTTPException:
        return ServiceFacts(one, "other", says="what answers does not speak HTTP")
    except OSError as error:
        return ServiceFacts(one, "stalled", says=f"the connection ended before the answer: {error.strerror or error}")


def _tls(one: ServiceAsked, sock: socket.socket, name_ms: float, connect_ms: float) -> ServiceFacts:
    """The handshake without trust first: what certificate is there is to be seen even where it is not the right one."""
    loose = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    loose.check_hostname = False
    loose.verify_mode = ssl.CERT_NONE
    try:
        inside, tls_ms = secured(sock, one.host, loose)
    except socket.timeout:
        return ServiceFacts(one, "stalled", says="it opens, but the handshake does not come to its end")
    except ssl.SSLError as error:
        return ServiceFacts(one, "other", says=f"no TLS: {error.reason or error}")
    with inside:
        digest = hashlib.sha256(inside.getpeercert(binary_form=True) or b"").hexdigest()
        found = ServiceFacts(one, "open", name_ms + connect_ms + tls_ms)
        if one.protocol == "https":
            found = _http(one, inside, name_ms, connect_ms, tls_ms)
    fits, problem = _expected(one, digest)
    if problem is None:
        return replace(found, trusted=True, sha256=digest)
    return replace(found, state="other", says=problem, trusted=fits, sha256=digest)


def _expected(one: ServiceAsked, digest: str) -> tuple[bool | None, str | None]:
    """Whether the certificate is the right one, None where that could not be found out; and what is wrong."""
    if one.sha256:
        fits = digest == one.sha256.replace(":", "").lower()
        return fits, None if fits else f"another certificate than the one expected: SHA-256 {digest[:16]}…"
    return _trusted(one)


def _trusted(one: ServiceAsked) -> tuple[bool | None, str | None]:
    """What this system has against the certificate. A handshake that fails otherwise says nothing of trust."""
    try:
        trusting = ssl.create_default_context()
        with (
            socket.create_connection((one.host, one.port), WAIT_S) as sock,
            trusting.wrap_socket(sock, server_hostname=one.host),
        ):
            return True, None
    except ssl.SSLCertVerificationError as error:
        return False, f"its certificate is not to be trusted: {error.verify_message}"
    except (ssl.SSLError, OSError) as error:
        return None, f"the handshake failed the second time: {error}"


def _udp(one: ServiceAsked) -> ServiceFacts:
    info = socket.getaddrinfo(one.host, one.port, type=socket.SOCK_DGRAM)[0]
    number = secrets.randbelow(1 << 16)
    transaction = secrets.token_bytes(stun.TRANSACTION_BYTES)
    request = {
        "stun": lambda: stun.request(transaction),
        "dns": lambda: dns.question(number, "."),
        "sip": lambda: _options(one, transaction.hex()),
    }[one.protocol]()
    with socket.socket(info[0], socket.SOCK_DGRAM) as sock:
        sock.connect(info[4])
        for _ in range(TRIES_UDP):
            began = time.monotonic()
            sock.send(request)
            sock.settimeout(WAIT_S / TRIES_UDP)
            try:
                data = sock.recv(4096)
            except socket.timeout:
                continue
            took_ms = (time.monotonic() - began) * 1000
            found = _fitting(one, data, took_ms, transaction, number)
            if one.protocol == "stun" and found.state == "open":
                return replace(found, behaviour=behaviour(info[0], info[4]))
            return found
    return ServiceFacts(one, "filtered", says="no answer")


def _fitting(one: ServiceAsked, data: bytes, took_ms: float, transaction: bytes, number: int) -> ServiceFacts:
    try:
        if one.protocol == "stun":
            mapped = stun.answer(data, transaction).mapped
            return ServiceFacts(one, "open", took_ms, f"seen as {mapped.address} port {mapped.port}")
        if one.protocol == "dns":
            dns.answer(data, number, ".")
            return ServiceFacts(one, "open", took_ms)
        line = data.split(b"\r\n", 1)[0].decode("ascii", "replace")
        if line.startswith("SIP/2.0 "):
            return ServiceFacts(one, "open", took_ms, line[8:80])
        return ServiceFacts(one, "other", took_ms, "what answers does not speak SIP")
    except WireError as error:
        return ServiceFacts(one, "other", took_ms, str(error))


def _options(one: ServiceAsked, branch: str) -> bytes:
    """OPTIONS (RFC 3261 §11), which every SIP server answers in some way."""
    return (
        f"OPTIONS sip:{one.host}:{one.port} SIP/2.0\r\nVia: SIP/2.0/UDP 0.0.0.0;rport;branch=z9hG4bK{branch}\r\n"
        f"Max-Forwards: 70\r\nFrom: <sip:check@invalid>;tag={branch[:8]}\r\nTo: <sip:{one.host}>\r\n"
        f"Call-ID: {branch}\r\nCSeq: 1 OPTIONS\r\nContent-Length: 0\r\n\r\n"
    ).encode()
