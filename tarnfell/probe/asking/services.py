"""Services asked whether they answer: TCP that opens, TLS whose certificate is looked at, UDP by a fitting request."""

from __future__ import annotations

import hashlib
import secrets
import socket
import ssl
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

from tarnfell.wire import WireError, dns, stun
from tarnfell.wire.kinds.check import ServiceAsked, ServiceFacts

WAIT_S = 3.0
TRIES_UDP = 3
AT_ONCE = 50


def ask_all(services: Sequence[ServiceAsked], go_on: Callable[[], bool] = lambda: True) -> tuple[ServiceFacts, ...]:
    """In the order of asking, many at once. What was not asked any more, because it was stopped, is left out."""
    with ThreadPoolExecutor(max_workers=max(1, min(AT_ONCE, len(services)))) as pool:
        found = pool.map(lambda one: _ask(one) if go_on() else None, services)
        return tuple(one for one in found if one is not None)


def _ask(one: ServiceAsked) -> ServiceFacts:
    began = time.monotonic()
    try:
        if one.protocol in ("tcp", "tls"):
            with socket.create_connection((one.host, one.port), WAIT_S) as sock:
                if one.protocol == "tls":
                    return _tls(one, sock, began)
                return ServiceFacts(one, "open", (time.monotonic() - began) * 1000)
        return _udp(one)
    except socket.timeout:
        return ServiceFacts(one, "filtered", says="no answer")
    except ConnectionRefusedError:
        return ServiceFacts(one, "refused", (time.monotonic() - began) * 1000, "refused")
    except socket.gaierror:
        return ServiceFacts(one, "other", says=f"the name {one.host} cannot be looked up")
    except OSError as error:
        return ServiceFacts(one, "filtered", says=error.strerror or str(error))


def _tls(one: ServiceAsked, sock: socket.socket, began: float) -> ServiceFacts:
    """The handshake without trust first: what certificate is there is to be seen even where it is not the right one."""
    loose = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    loose.check_hostname = False
    loose.verify_mode = ssl.CERT_NONE
    try:
        with loose.wrap_socket(sock, server_hostname=one.host) as secured:
            certificate = secured.getpeercert(binary_form=True) or b""
            took_ms = (time.monotonic() - began) * 1000
    except socket.timeout:
        return ServiceFacts(one, "stalled", says="it opens, but the handshake does not come to its end")
    except ssl.SSLError as error:
        return ServiceFacts(one, "other", says=f"no TLS: {error.reason or error}")
    digest = hashlib.sha256(certificate).hexdigest()
    if one.sha256:
        fits = digest == one.sha256.replace(":", "").lower()
        says = "" if fits else f"another certificate than the one expected: SHA-256 {digest[:16]}…"
        return ServiceFacts(one, "open" if fits else "other", took_ms, says, trusted=fits, sha256=digest)
    problem = _distrust(one)
    return ServiceFacts(
        one, "other" if problem else "open", took_ms, problem or "", trusted=problem is None, sha256=digest
    )


def _distrust(one: ServiceAsked) -> str | None:
    """What this system has against the certificate; None for nothing."""
    try:
        trusting = ssl.create_default_context()
        with (
            socket.create_connection((one.host, one.port), WAIT_S) as sock,
            trusting.wrap_socket(sock, server_hostname=one.host),
        ):
            return None
    except ssl.SSLCertVerificationError as error:
        return f"its certificate is not to be trusted: {error.verify_message}"
    except (ssl.SSLError, OSError) as error:
        return f"the handshake failed the second time: {error}"


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
            return _fitting(one, data, took_ms, transaction, number)
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
