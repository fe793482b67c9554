"""Files kept beside the database by what is in them: <shelf>/<sha256>. Written and synced before a row names them."""

from __future__ import annotations

import hashlib
import os
import re
import tempfile
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

_NAME = re.compile(r"[0-9a-f]{64}")
_HALF = ".half"
ORPHAN_S = 3600
"""A file that no row names after so long was left by a server that was killed in between."""


@dataclass(frozen=True)
class Shelf:
    """One folder of files within the data folder."""

    name: str

    def place(self, data: Path, sha256: str) -> Path:
        if not _NAME.fullmatch(sha256):
            raise ValueError(f"“{sha256}” is no SHA-256.")
        return data / self.name / sha256

    def keep(self, data: Path, chunks: Iterable[bytes]) -> str:
        """Write a file as it comes, without holding it in memory; its SHA-256. Raises OSError, and leaves nothing then.

        The same content twice is one file.
        """
        folder = data / self.name
        folder.mkdir(mode=0o700, exist_ok=True)
        digest = hashlib.sha256()
        handle, half = tempfile.mkstemp(suffix=_HALF, dir=folder)
        try:
            with os.fdopen(handle, "wb") as file:
                for chunk in chunks:
                    digest.update(chunk)
                    file.write(chunk)
                file.flush()
                os.fsync(file.fileno())
            Path(half).replace(folder / digest.hexdigest())
        except BaseException:
            Path(half).unlink(missing_ok=True)
            raise
        _sync(folder)
        return digest.hexdigest()

    def read(self, data: Path, sha256: str) -> bytes | None:
        """None where there is no such file."""
        try:
            return self.place(data, sha256).read_bytes()
        except FileNotFoundError:
            return None

    def drop(self, data: Path, sha256: str) -> None:
        self.place(data, sha256).unlink(missing_ok=True)

    def names(self, data: Path) -> Iterator[Path]:
        """Every file on the shelf, halves of a server that was killed as well."""
        folder = data / self.name
        return iter(sorted(folder.iterdir()) if folder.is_dir() else ())

    def sweep(self, data: Path, wanted: set[str], older_than_s: float = ORPHAN_S) -> None:
        """Remove what nothing names: halves, and files of a server that was killed before or after their row."""
        for file in self.names(data):
            if file.name not in wanted and time.time() - file.stat().st_mtime > older_than_s:
                file.unlink(missing_ok=True)


IMPORTS = Shelf("imports")
DELIVERIES = Shelf("deliveries")
HALVES = Shelf("browser-halves")
"""What browsers delivered, until the far end's part is joined to it; a far end here keeps its own apart."""
MADE = Shelf("made")
"""Documents that the clerk made."""
ISSUED = Shelf("issued")
"""Reports as they were issued; nothing here is ever changed or swept away."""


def _sync(folder: Path) -> None:
    """A new name survives the machine only once its folder is written."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
