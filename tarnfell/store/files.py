"""Imported files as they came, beside the database: imports/<sha256>."""

from __future__ import annotations

import os
import re
from pathlib import Path

_NAME = re.compile(r"[0-9a-f]{64}")


def _place(data: Path, sha256: str) -> Path:
    if not _NAME.fullmatch(sha256):
        raise ValueError(f"“{sha256}” is no SHA-256.")
    return data / "imports" / sha256


def keep_file(data: Path, sha256: str, body: bytes) -> None:
    """Written and synced before anything refers to it. Raises OSError."""
    place = _place(data, sha256)
    if place.exists():
        return
    place.parent.mkdir(mode=0o700, exist_ok=True)
    half = place.with_suffix(f".{os.getpid()}")
    with open(half, "wb") as file:
        file.write(body)
        file.flush()
        os.fsync(file.fileno())
    half.replace(place)
    folder = os.open(place.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def read_file(data: Path, sha256: str) -> bytes | None:
    """None for a file that was imported before files were kept."""
    try:
        return _place(data, sha256).read_bytes()
    except FileNotFoundError:
        return None


def drop_file(data: Path, sha256: str) -> None:
    _place(data, sha256).unlink(missing_ok=True)
