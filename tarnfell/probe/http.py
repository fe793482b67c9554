"""The probe's one way of speaking to its server: JSON and records over HTTP(S)."""

from __future__ import annotations

import http.client
import io
import json
import ssl
import urllib.error
import urllib.request
from collections.abc import Mapping

from tarnfell.wire import Unchecked

TIMEOUT_S = 20.0
SLOWEST_BYTES_PER_S = 4000
"""An uplink of 32 kbit/s: for as long as that takes a body may be on its way before the answer is missed."""
MOST_ON_ITS_WAY = 4 << 20
"""Bytes that a system holds for the line at the most (Linux's tcp_wmem); of a longer body the rest was sent before."""


class Unreachable(ConnectionError):
    """No answer, or none that means anything: try again later."""


LATER = (408, 425, 429)
"""Answers of 4xx that say: the same again later (RFC 9110 §15.5.9, RFC 8470 §5.2, RFC 6585 §4)."""
FOR_GOOD = (401, 403, 410)


NOT_UNDERSTOOD = 422
"""RFC 9110 §15.5.21: what was told has a shape the server does not know."""


class Refused(RuntimeError):
    """The server answered no, with its own sentence."""

    def __init__(self, words: str, code: int = 0) -> None:
        super().__init__(words)
        self.code = code


REACH_LIMIT_S = 3.0


class TurnedAway(Refused):
    """The server does not know this probe any more; nothing it could ask would change that."""


class ServerClient:
    """Requests to one server with this probe's secret. Proxies and certificates follow the system's settings."""

    def __init__(self, server: str, secret: str | None = None) -> None:
        if not server.startswith(("http://", "https://")):
            raise Refused(f"“{server}” is not a server's address: it starts with http:// or https://.")
        self._server = server.rstrip("/")
        self._secret = secret

    def post(self, path: str, body: Mapping[str, object]) -> Unchecked:
        """Raises Unreachable or Refused."""
        return self._request("POST", path, json.dumps(body).encode(), "application/json")

    def put(self, path: str, body: bytes) -> Unchecked:
        """Raises Unreachable or Refused."""
        return self._request("PUT", path, body, "application/octet-stream")

    def fetch(self, path: str) -> bytes:
        """A file. Raises Unreachable or Refused."""
        return self._ask("GET", path, None, "application/octet-stream")

    def reachable(self) -> bool:
        """Whether anything answers at the server's address now, within a few seconds."""
        request = urllib.request.Request(self._server + "/", method="HEAD")
        try:
            with urllib.request.urlopen(request, timeout=REACH_LIMIT_S):
                return True
        except urllib.error.HTTPError:
            return True  # it answered, whatever it thought of the question
        except (urllib.error.URLError, OSError, http.client.HTTPException):
            return False

    def _request(self, method: str, path: str, body: bytes, kind: str) -> Unchecked:
        try:
            return dict(json.loads(self._ask(method, path, body, kind) or b"{}"))
        except ValueError as error:
            raise Unreachable(str(error)) from None

    def _ask(self, method: str, path: str, body: bytes | None, kind: str) -> bytes:
        # Block by block: the limit on the time is then one of each block, and of a whole body it would be of all of it.
        data = None if body is None else io.BytesIO(body)
        request = urllib.request.Request(self._server + path, data=data, method=method)
        if body is not None:
            request.add_header("Content-Length", str(len(body)))
        request.add_header("Content-Type", kind)
        if self._secret:
            request.add_header("Authorization", f"Bearer {self._secret}")
        try:
            with urllib.request.urlopen(request, timeout=_limit_s(len(body or b""))) as answer:
                return bytes(answer.read())
        except urllib.error.HTTPError as error:
            if error.code >= 500 or error.code in LATER:
                raise Unreachable(f"the server answered {error.code}") from None
            if error.code in FOR_GOOD:
                raise TurnedAway(_sentence(error), error.code) from None
            raise Refused(_sentence(error), error.code) from None
        except (urllib.error.URLError, OSError, http.client.HTTPException) as error:
            raise Unreachable(_why(getattr(error, "reason", error))) from None


def _limit_s(size: int) -> float:
    """How long one block, or the answer, is waited for."""
    return TIMEOUT_S + min(size, MOST_ON_ITS_WAY) / SLOWEST_BYTES_PER_S


def _why(reason: object) -> str:
    if isinstance(reason, ssl.SSLCertVerificationError):
        return (
            f"its certificate is not trusted here ({reason.verify_message}); let this system trust who issued it, or "
            "name a file with that certificate in SSL_CERT_FILE"
        )
    return str(reason)


def _sentence(error: urllib.error.HTTPError) -> str:
    """The detail of the server's problem report (RFC 9457), or its status line."""
    try:
        return str(json.loads(error.read())["detail"])
    except (ValueError, KeyError, TypeError, OSError):
        return f"{error.code} {error.reason}"
