"""A file that one process at a time holds; the system lets go of it however that process ends."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from tarnfell.media import host


def hold(path: Path) -> BinaryIO | None:
    """The open file, which is held until it is closed; None where another process holds it. Raises OSError."""
    file = open(path, "ab")  # noqa: SIM115 (held as long as whoever asked lives)
    try:
        if host.HERE.windows:
            import msvcrt

            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        else:
            import fcntl

            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.close()
        return None
    return file
