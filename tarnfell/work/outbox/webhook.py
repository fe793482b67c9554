"""JSON to an address that somebody gave, signed so that its receiver knows whom it is from (RFC 9421, RFC 9530).

The server must not become a door into the network that it stands in: the address is looked up once, and unless the
operator allows others only public ones are spoken to, without following anybody elsewhere.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import http.client
import ipaddress
import json
import socket
import ssl
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from tarnfell.work.outbox.failures import NotNow, Refused

TIMEOUT_S = 15.0
KEY_ID = "tarnfell"
_COVERED = ("@method", "@target-uri", "content-digest", "content-type")


def about(url: str) -> str | None:
    """What is wrong with an address for a webhook; None for one that can be tried."""
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        return "This is no address of a webhook."
    if parts.scheme not in ("https", "http") or not parts.hostname or port == 0:
        return "Give the whole address of the webhook, such as https://hooks.example/alerts."
    if parts.username or parts.password or parts.fragment:
        return "An address of a webhook carries no user name, password or fragment. The secret signs what is sent."
    if any(ord(one) <= 32 or ord(one) > 126 for one in url):
        return "Write the address of the webhook in plain ASCII letters, without spaces."
    return None


def post(url: str, secret: str, told: Mapping[str, Any], number: str, at_us: int, allow_private: bool) -> None:
    """Raises NotNow and Refused."""
    trouble = about(url)
    if trouble:
        raise Refused(trouble)
    body = json.dumps(told, separators=(",", ":"), sort_keys=True).encode()
    headers = signed(url, secret, body, at_us) | {"Idempotency-Key": f'"{number}"', "User-Agent": "tarnfell"}
    parts = urlsplit(url)
    where = f"the webhook at {parts.hostname}"
    connection = _connection(url, _address(url, allow_private))
    try:
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        connection.request("POST", path, body, headers)
        status = connection.getresponse().status
    except ssl.SSLError as error:
        raise NotNow(f"{where}: its certificate is not accepted ({error.reason or error})") from None
    except (OSError, http.client.HTTPException) as error:
        raise NotNow(f"{where} is not reached ({error or type(error).__name__})") from None
    finally:
        connection.close()
    if status == 410:
        raise Refused(f"{where} answers 410: it is gone for good")
    if not 200 <= status < 300:
        raise NotNow(f"{where} answers {status}")


def signed(url: str, secret: str, body: bytes, at_us: int) -> dict[str, str]:
    """The headers of a request that its receiver can check with the secret (RFC 9421 §3.3.3, HMAC with SHA-256)."""
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    values = {"@method": "POST", "@target-uri": url, "content-digest": digest, "content-type": "application/json"}
    names = " ".join(f'"{name}"' for name in _COVERED)
    parameters = f'({names});created={at_us // 1_000_000};keyid="{KEY_ID}";alg="hmac-sha256"'
    base = "".join(f'"{name}": {values[name]}\n' for name in _COVERED) + f'"@signature-params": {parameters}'
    signature = base64.b64encode(hmac.digest(secret.encode(), base.encode(), "sha256")).decode()
    return {
        "Content-Type": "application/json",
        "Content-Digest": digest,
        "Signature-Input": f"sig={parameters}",
        "Signature": f"sig=:{signature}:",
    }


def _address(url: str, allow_private: bool) -> tuple[str, int]:
    parts = urlsplit(url)
    host, port = parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)
    try:
        found = [str(one[4][0]) for one in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
    except (OSError, UnicodeError):
        raise NotNow(f"the name {host} cannot be looked up") from None
    if not allow_private and not all(is_public(one) for one in found):
        raise Refused(
            f"{host} is an address inside a network. Whoever runs this server must allow such webhooks "
            "(--allow-private-webhooks)."
        )
    return found[0], port


def is_public(address: str) -> bool:
    one = ipaddress.ip_address(address.partition("%")[0])
    mapped = getattr(one, "ipv4_mapped", None)
    one = mapped or one
    return one.is_global and not one.is_multicast


def _connection(url: str, address: tuple[str, int]) -> http.client.HTTPConnection:
    """To the very address that was looked at: the name is not looked up again."""
    parts = urlsplit(url)
    host, port = parts.hostname or "", address[1]
    if parts.scheme == "https":
        context = ssl.create_default_context()
        secure = http.client.HTTPSConnection(host, port, timeout=TIMEOUT_S, context=context)
        _pin(secure, address)
        return secure
    plain = http.client.HTTPConnection(host, port, timeout=TIMEOUT_S)
    _pin(plain, address)
    return plain


def _pin(connection: http.client.HTTPConnection, address: tuple[str, int]) -> None:
    def connect(_to: object, timeout: float, *_more: object) -> socket.socket:
        return socket.create_connection(address, timeout)

    connection._create_connection = connect  # type: ignore[attr-defined]
