"""The one-time code by which the first account of a new installation is made: data/first-account-code."""

from __future__ import annotations

import hmac
import os
import secrets
from pathlib import Path

_ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789"
"""Without what is read as another sign."""


def _place(data: Path) -> Path:
    return data / "first-account-code"


def make_code(data: Path) -> str:
    """The code, made anew unless there is one. Raises OSError."""
    try:
        return _place(data).read_text(encoding="ascii").strip()
    except FileNotFoundError:
        pass
    code = "-".join("".join(secrets.choice(_ALPHABET) for _ in range(4)) for _ in range(4))
    handle = os.open(_place(data), os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w", encoding="ascii") as file:
        file.write(code + "\n")
    return code


def is_code(data: Path, given: str) -> bool:
    try:
        kept = _place(data).read_text(encoding="ascii").strip()
    except FileNotFoundError:
        return False
    return bool(kept) and hmac.compare_digest(kept.encode(), given.strip().lower().encode())


def drop_code(data: Path) -> None:
    _place(data).unlink(missing_ok=True)
