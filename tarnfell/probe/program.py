"""The probe as one file: what it carries with it, how it starts itself, and how it is replaced by a newer one."""

from __future__ import annotations

import hashlib
import json
import os
import sys
import zipfile
from dataclasses import dataclass
from pathlib import Path

from tarnfell.wire.kinds.fields import read

ENROLMENT = "enrolment.json"
DIGEST = "program-digest.txt"


def own_file() -> Path | None:
    """The zip file this program runs from; None where it is an installed package."""
    file = Path(sys.argv[0] if sys.argv else "")
    return file.resolve() if zipfile.is_zipfile(file) else None


def carried(name: str) -> bytes | None:
    """A file inside the program's own zip."""
    file = own_file()
    if file is None:
        return None
    with zipfile.ZipFile(file) as inside:
        return inside.read(name) if name in inside.namelist() else None


@dataclass(frozen=True)
class Carried:
    """Whom to enrol with, as the server wrote it into this file."""

    server: str
    code: str
    folder: str
    """The state folder's name."""


def carried_enrolment() -> Carried | None:
    text = carried(ENROLMENT)
    return read(Carried, json.loads(text)) if text else None


def program_digest() -> str | None:
    """Names this program's code; None where it is an installed package."""
    text = carried(DIGEST)
    return text.decode() if text else None


def command_line(*arguments: str) -> list[str]:
    """How to start another process of this same program."""
    file = own_file()
    if file is not None:
        return [sys.executable, "-I", "-S", str(file), *arguments]
    return [sys.executable, "-m", "tarnfell.probe.main", *arguments]


class ReplaceError(RuntimeError):
    """The program was not replaced; the text says why. The one running goes on."""


def replace_own_file(new: bytes, sha256: str) -> None:
    """Put ``new`` in this program's place, with the enrolment it carries. Raises ReplaceError."""
    file = own_file()
    if file is None:
        raise ReplaceError("This probe runs from an installed package: update that instead.")
    if hashlib.sha256(new).hexdigest() != sha256:
        raise ReplaceError("The new program did not arrive whole. Nothing was changed.")
    aside = file.with_name(file.name + ".new")
    try:
        aside.write_bytes(new)
        carries = carried(ENROLMENT)
        with zipfile.ZipFile(aside, "a") as inside:
            if inside.testzip() is not None or "__main__.py" not in inside.namelist():
                raise ReplaceError("What arrived is not a probe program. Nothing was changed.")
            if carries is not None and ENROLMENT not in inside.namelist():
                inside.writestr(ENROLMENT, carries)
        os.chmod(aside, file.stat().st_mode & 0o777)
        os.replace(aside, file)
    except zipfile.BadZipFile:
        raise ReplaceError("What arrived is not a probe program. Nothing was changed.") from None
    except OSError as error:
        raise ReplaceError(f"{file} cannot be replaced ({error.strerror}).") from None
    finally:
        aside.unlink(missing_ok=True)


def start_anew() -> None:
    """Become the program that is now in the file, with the same arguments."""
    os.execv(sys.executable, [sys.executable, *sys.orig_argv[1:]] if hasattr(sys, "orig_argv") else
             [sys.executable, *sys.argv])  # fmt: skip
