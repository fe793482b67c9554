"""Secrets that people choose: only a slow, salted hash of each is kept."""

from __future__ import annotations

import hashlib
import hmac
import os

_N, _R, _P = 1 << 14, 8, 1
NOBODYS = f"scrypt${bytes(16).hex()}${bytes(64).hex()}"
"""In place of a hash where there is none: nothing fits it, and to find that out takes as long."""


def hashed(secret: str) -> str:
    return _hash(secret, os.urandom(16))


def fits(secret: str, kept: str) -> bool:
    return hmac.compare_digest(kept, _hash(secret, bytes.fromhex(kept.split("$")[1])))


def _hash(secret: str, salt: bytes) -> str:
    digest = hashlib.scrypt(secret.encode(), salt=salt, n=_N, r=_R, p=_P)
    return f"scrypt${salt.hex()}${digest.hex()}"
