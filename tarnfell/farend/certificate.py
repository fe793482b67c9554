"""The certificate a far end shows where it answers SIP over TLS: its own, or one that it is given.

Nobody need sign it: a probe is told its fingerprint on the control connection, by the key.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import ssl
import subprocess
from pathlib import Path

FILE = "sip-certificate.pem"
_MAKE_LIMIT_S = 20.0
_DAYS = 3650


class CertificateError(ValueError):
    """A file that holds no certificate with its key; the text says which."""


def read_or_make(folder: Path, given: str = "") -> Path | None:
    """The file to use: the given one, or one in the folder, made where openssl is installed. None where it is not.

    Raises CertificateError for a given file that is none.
    """
    if given:
        fingerprint(Path(given))
        return Path(given)
    file = folder / FILE
    if not file.exists() and not _made(file):
        return None
    try:
        fingerprint(file)
    except CertificateError:
        return None
    return file


def fingerprint(file: Path) -> str:
    """SHA-256 of the certificate, as hex. Raises CertificateError."""
    try:
        context(file)
        text = file.read_text(encoding="ascii", errors="replace")
        begin, end = "-----BEGIN CERTIFICATE-----", "-----END CERTIFICATE-----"
        first = begin + text.split(begin, 1)[1].split(end, 1)[0] + end
        return hashlib.sha256(ssl.PEM_cert_to_DER_cert(first)).hexdigest()
    except (OSError, IndexError, ValueError) as error:
        raise CertificateError(f"{file} holds no certificate with its key (PEM): {error}.") from None


def context(file: Path) -> ssl.SSLContext:
    """Raises OSError."""
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    made.load_cert_chain(file)
    return made


def _made(file: Path) -> bool:
    tool = shutil.which("openssl")
    if tool is None:
        return False
    part = file.with_suffix(".part")
    command = [
        tool, "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days",
        str(_DAYS), "-subj", "/CN=tarnfell far end", "-keyout", str(part), "-out", "-",
    ]  # fmt: skip
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        os.close(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600))
        done = subprocess.run(command, capture_output=True, timeout=_MAKE_LIMIT_S, check=True)
        with part.open("ab") as out:
            out.write(done.stdout)
        part.replace(file)
    except (OSError, subprocess.SubprocessError):
        part.unlink(missing_ok=True)
        return False
    return True
