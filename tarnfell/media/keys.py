"""The key that probe and far end share: where it lies and how it is made."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

MIN_KEY_CHARACTERS = 16


class KeyFileError(ValueError):
    """No usable key; the text says what to do."""


def default_key_file() -> Path:
    """``TARNFELL_KEY_FILE``, or ``tarnfell/farend.key`` in the user's configuration folder."""
    named = os.environ.get("TARNFELL_KEY_FILE")
    if named:
        return Path(named)
    base = os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config"
    return Path(base) / "tarnfell" / "farend.key"


def read_key(path: str | None) -> bytes:
    """The key in ``path``, or in the default place. Raises KeyFileError."""
    file = Path(path) if path else default_key_file()
    try:
        text = file.read_text(encoding="ascii").strip()
    except OSError as error:
        raise KeyFileError(
            f"No key: {file} cannot be read ({error.strerror}). "
            "Copy the far end's key file here and name it with --key-file."
        ) from None
    except UnicodeDecodeError:
        raise KeyFileError(f"{file} does not hold a key.") from None
    if len(text) < MIN_KEY_CHARACTERS:
        raise KeyFileError(f"The key in {file} is too short: at least {MIN_KEY_CHARACTERS} characters.")
    return text.encode()


def read_or_make_key(path: str | None) -> tuple[bytes, Path, bool]:
    """The key, its file, and whether it was made just now. Raises KeyFileError."""
    file = Path(path) if path else default_key_file()
    if file.exists():
        return read_key(str(file)), file, False
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "w") as out:
            out.write(secrets.token_urlsafe(32) + "\n")
    except OSError as error:
        raise KeyFileError(f"No key: {file} cannot be written ({error.strerror}).") from None
    return read_key(str(file)), file, True
