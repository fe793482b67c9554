"""A whole data folder as one open archive, taken while the server works, and put back.

The archive is a tar file: the database, the files beside it, and last ``manifest.json`` with the size and SHA-256 of
each. Every file that the database names as of that moment is in it: while nothing can be written, each is linked aside
and a reading of the database begun; what is written afterwards is in neither.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import sqlite3
import tarfile
import tempfile
import time
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import IO, BinaryIO, Literal

from tarnfell import __version__
from tarnfell.store.db import FILE_NAME, connect, migrate, writing
from tarnfell.store.files import DELIVERIES, HALVES, IMPORTS, ISSUED, MADE

SHELVES = (IMPORTS, DELIVERIES, HALVES, MADE, ISSUED)
BESIDE = ("session.key", "farend.key", "sip-certificate.pem", "first-account-code")
"""Small files of the installation. Locks are not among them."""
MANIFEST = "manifest.json"
FORM = 1
ASIDE = "backup-"
LEFT_S = 86_400
"""What was set aside so long ago was left by a backup that was killed."""
_PART = 1 << 20


Holds = Literal["data folder", "engagement"]
WHOLE: Holds = "data folder"


_OTHER: dict[Holds, str] = {
    "data folder": "The archive holds one engagement: use `tarnfell engagement import`.",
    "engagement": "The archive holds a whole data folder: use `tarnfell restore`.",
}


class BackupError(ValueError):
    """Why a backup cannot be taken or put back; the text is for people."""


@dataclass(frozen=True)
class Manifest:
    form: int
    version: str
    """Of the program that took it."""
    made_at: str
    files: dict[str, tuple[int, str]]
    """Size and SHA-256 of each, by its name in the folder."""
    holds: Holds = "data folder"


def back_up(data: Path, out: BinaryIO) -> Manifest:
    """Write the archive; the server may be at work meanwhile. Raises BackupError and OSError."""
    if not (data / FILE_NAME).is_file():
        raise BackupError(f"There is no data in {data}.")
    for left in data.glob(f"{ASIDE}*"):
        if time.time() - left.stat().st_mtime > LEFT_S:
            shutil.rmtree(left, ignore_errors=True)
    # Within the folder, for links cannot lead to another disk.
    with tempfile.TemporaryDirectory(prefix=ASIDE, dir=data) as name:
        aside = Path(name)
        _set_aside(data, aside)
        return write_archive(aside, out)


def write_archive(aside: Path, out: BinaryIO, holds: Holds = WHOLE) -> Manifest:
    """All files of a folder, and what they are."""
    files: dict[str, tuple[int, str]] = {}
    with tarfile.open(fileobj=out, mode="w|", format=tarfile.PAX_FORMAT) as archive:
        for file in sorted(one for one in aside.rglob("*") if one.is_file()):
            own = file.relative_to(aside).as_posix()
            files[own] = (file.stat().st_size, _digest(file))
            archive.add(file, own, filter=_bare)
        now = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        manifest = Manifest(FORM, __version__, now, files, holds)
        body = json.dumps(asdict(manifest), indent=1).encode()
        told = tarfile.TarInfo(MANIFEST)
        told.size, told.mode = len(body), 0o600
        archive.addfile(told, io.BytesIO(body))
    return manifest


def _set_aside(data: Path, aside: Path) -> None:
    reading, locking = connect(data), connect(data)
    try:
        with writing(locking):
            # Of this moment, however long it is then read.
            reading.execute("BEGIN")
            reading.execute("SELECT count(*) FROM sqlite_master").fetchone()
            for shelf in SHELVES:
                (aside / shelf.name).mkdir()
                for file in shelf.names(data):
                    if len(file.name) == 64:  # the half of a file that is just being written is none yet
                        _link(file, aside / shelf.name / file.name)
            for name in BESIDE:
                if (data / name).is_file():
                    shutil.copy2(data / name, aside / name)
        copy = sqlite3.connect(aside / FILE_NAME)
        try:
            reading.backup(copy)
            # One file, without the log beside it that this form of the database otherwise has.
            copy.execute("PRAGMA journal_mode = DELETE")
        finally:
            copy.close()
    finally:
        reading.close()
        locking.close()


def _link(file: Path, to: Path) -> None:
    try:
        os.link(file, to)
    except FileNotFoundError:
        pass  # dropped after its row was: nothing names it
    except OSError:
        shutil.copyfile(file, to)


def _bare(info: tarfile.TarInfo) -> tarfile.TarInfo:
    """Nothing of who ran the server here."""
    info.uid = info.gid = 0
    info.uname = info.gname = ""
    info.mode = 0o600
    return info


def _digest(file: Path) -> str:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def restore(archive: BinaryIO, data: Path) -> Manifest:
    """Put a data folder back where none is; all of it, or nothing. Raises BackupError and OSError."""
    if data.exists() and any(data.iterdir()):
        raise BackupError(f"{data} is not empty. A backup is put back into a folder of its own.")
    data.parent.mkdir(parents=True, exist_ok=True)
    half = Path(tempfile.mkdtemp(prefix=f".{data.name}-", dir=data.parent))
    try:
        found = unpacked(archive, half, WHOLE)
        check_database(half)
        if data.exists():
            data.rmdir()
        half.rename(data)
    except BaseException:
        shutil.rmtree(half, ignore_errors=True)
        raise
    return found


def unpacked(archive: BinaryIO, half: Path, holds: Holds) -> Manifest:
    """The archive's files in a folder, each checked. Raises BackupError."""
    manifest: Manifest | None = None
    found: dict[str, tuple[int, str]] = {}
    try:
        with tarfile.open(fileobj=archive, mode="r|*") as opened:
            for info in opened:
                if not info.isfile() or not _is_ours(info.name):
                    raise BackupError(f"This is no backup of a data folder: it holds {info.name[:80]}.")
                body = opened.extractfile(info)
                assert body is not None  # of a file
                if info.name == MANIFEST:
                    manifest = _read_manifest(body.read(64 << 20))
                else:
                    found[info.name] = _write(body, half / info.name)
    except (tarfile.TarError, EOFError) as error:
        raise BackupError(f"The archive is damaged, or is none: {error}.") from None
    if manifest is None:
        raise BackupError("The archive is cut short: its manifest is missing.")
    if manifest.holds != holds:
        raise BackupError(_OTHER[holds])
    if FILE_NAME not in found:
        raise BackupError("The archive has no database.")
    for name in sorted(manifest.files.keys() | found.keys()):
        if manifest.files.get(name) != found.get(name):
            raise BackupError(f"The archive is damaged: {name} is not what its manifest says.")
    return manifest


def _is_ours(name: str) -> bool:
    folder, _, file = name.partition("/")
    if not file:
        return folder in (FILE_NAME, MANIFEST, *BESIDE)
    return folder in {shelf.name for shelf in SHELVES} and len(file) == 64 and file.isalnum()


def _read_manifest(body: bytes) -> Manifest:
    try:
        told = json.loads(body)
        files = {str(name): (int(size), str(sha256)) for name, (size, sha256) in told["files"].items()}
        holds = told.get("holds", WHOLE)
        manifest = Manifest(int(told["form"]), str(told["version"]), str(told["made_at"]), files, holds)
    except (ValueError, KeyError, TypeError, AttributeError):
        raise BackupError("The archive's manifest cannot be read.") from None
    if manifest.form != FORM:
        raise BackupError(f"The archive was written by another Tarnfell ({manifest.version}). Update this one.")
    return manifest


def _write(body: IO[bytes], place: Path) -> tuple[int, str]:
    place.parent.mkdir(mode=0o700, exist_ok=True)
    digest, size = hashlib.sha256(), 0
    handle = os.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        while part := body.read(_PART):
            digest.update(part)
            size += len(part)
            file.write(part)
        file.flush()
        os.fsync(file.fileno())
    return size, digest.hexdigest()


def check_database(half: Path) -> None:
    """Whole, and brought to today's form. Raises BackupError."""
    try:
        db = connect(half)
        try:
            told = db.execute("PRAGMA integrity_check").fetchone()[0]
            if told != "ok":
                raise BackupError(f"The archive's database is damaged: {told}.")
            migrate(db)
        finally:
            db.close()
    except sqlite3.DatabaseError as error:
        raise BackupError(f"The archive's database is damaged: {error}.") from None
