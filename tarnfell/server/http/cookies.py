"""How the session's cookie is signed."""

from __future__ import annotations

from typing import Any

from flask import Flask
from flask.sessions import SecureCookieSessionInterface
from itsdangerous import SignatureExpired, TimestampSigner, URLSafeTimedSerializer


class _Signer(TimestampSigner):
    def unsign(self, signed_value: str | bytes, max_age: int | None = None, return_timestamp: bool = False) -> Any:
        try:
            return super().unsign(signed_value, max_age, return_timestamp)  # type: ignore[call-overload]
        except SignatureExpired as error:
            if error.date_signed is None or error.date_signed.timestamp() <= self.get_timestamp():
                raise
            # By a clock that has been set back since. Whether the session goes on is for its record to say.
            return super().unsign(signed_value, None, return_timestamp)  # type: ignore[call-overload]


class Cookies(SecureCookieSessionInterface):
    """As Flask has them, but that nobody is signed out when the server's clock is set back."""

    def get_signing_serializer(self, app: Flask) -> URLSafeTimedSerializer | None:
        serializer = super().get_signing_serializer(app)
        if serializer is not None:
            serializer.signer = _Signer
        return serializer
