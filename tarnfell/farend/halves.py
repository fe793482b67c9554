"""What a far end had of runs that were broken off, kept on disk until the probe asks for it.

A half is named by a token that only the two ends of that session can make; whoever asks must hold the far end's key.
"""

from __future__ import annotations

import os
import re
import time
from pathlib import Path

MOST_BYTES = 64 << 20
MOST_FILES = 256
MOST_AGE_S = 8 * 24 * 3600
_TOKEN = re.compile(r"[0-9a-f]{32,128}")


class Halves:
    """A folder of them; the oldest go first when there are too many, too much or too old."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def keep(self, token: str, body: bytes) -> bool:
        """Whether it was written; a disk that refuses is no reason to fail a session that is over anyway."""
        if not _TOKEN.fullmatch(token) or len(body) > MOST_BYTES:
            return False
        try:
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            place = self._folder / f"{token}.half"
            aside = place.with_suffix(f".{os.getpid()}")
            with open(aside, "wb") as file:
                file.write(body)
                file.flush()
                os.fsync(file.fileno())
            os.replace(aside, place)
            self._make_room()
        except OSError:
            return False
        return True

    def take(self, token: str) -> bytes | None:
        """A half, which stays until its time is over: an answer may be lost on the way."""
        if not _TOKEN.fullmatch(token):
            return None
        try:
            return (self._folder / f"{token}.half").read_bytes()
        except OSError:
            return None

    def _make_room(self) -> None:
        found = sorted(((p.stat().st_mtime, p.stat().st_size, p) for p in self._folder.glob("*.half")), reverse=True)
        total = 0
        for number, (written, size, place) in enumerate(found):
            total += size
            if number >= MOST_FILES or total > MOST_BYTES or written < time.time() - MOST_AGE_S:
                place.unlink()
