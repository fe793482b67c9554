"""The probe as one file: the field rooms of this very installation in a zip that Python runs, and who it works for."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from functools import cache
from pathlib import Path

import tarnfell
from tarnfell.probe.program import DIGEST, ENROLMENT

ROOMS = ("wire", "media", "farend", "probe")
FILE_NAME = "tarnfell-probe.pyz"
_STAMP = (2026, 1, 1, 0, 0, 0)
"""The same code makes the same file, byte for byte."""

_MAIN = """import sys

if sys.version_info < (3, 9):
    sys.exit("This needs Python 3.9 or newer; this is " + sys.version.split()[0] + ". Get one from python.org.")

if __name__ == "__main__":
    from tarnfell.probe.main import main

    raise SystemExit(main())
"""


@cache
def program() -> bytes:
    """The program alone, as probes fetch it when they are told to update."""
    sources = _sources()
    digest = hashlib.sha256()
    for name, text in sources:
        digest.update(name.encode() + b"\0" + text + b"\0")
    return b"#!/usr/bin/env python3\n" + _zip([*sources, (DIGEST, digest.hexdigest()[:16].encode())])


@cache
def program_digest() -> str:
    """Names the code of ``program``."""
    with zipfile.ZipFile(io.BytesIO(program())) as inside:
        return inside.read(DIGEST).decode()


@cache
def program_sha256() -> str:
    """Of ``program``, so that a probe can tell that all of it arrived."""
    return hashlib.sha256(program()).hexdigest()


def probe_file(server: str, code: str, probe_id: int) -> bytes:
    """The program with the enrolment of one probe in it."""
    enrolment = {"server": server, "code": code, "folder": f"probe-{probe_id}"}
    whole = io.BytesIO(program())
    with zipfile.ZipFile(whole, "a") as inside:
        inside.writestr(_entry(ENROLMENT), json.dumps(enrolment))
    return whole.getvalue()


def service_unit(name: str, site: str) -> str:
    """A systemd unit (systemd.service(5)) for a small box that is always on."""
    return f"""# Save as /etc/systemd/system/tarnfell-probe.service, then, in the folder of the probe's file:
#   install -D {FILE_NAME} /var/lib/private/tarnfell-probe/{FILE_NAME}
#   systemctl daemon-reload && systemctl enable --now tarnfell-probe
# It runs as a user of its own that owns nothing but that folder, where it can also replace itself by an update.
[Unit]
Description=Tarnfell probe {_plain(name)} at {_plain(site)}
Wants=network-online.target
After=network-online.target

[Service]
ExecStart=/usr/bin/env python3 /var/lib/tarnfell-probe/{FILE_NAME} --state /var/lib/tarnfell-probe/state
DynamicUser=yes
StateDirectory=tarnfell-probe
StateDirectoryMode=0700
Restart=on-failure
RestartSec=10
# The supervisor tells its processes to end and waits for what they have measured.
KillMode=mixed
TimeoutStopSec=200
AmbientCapabilities=CAP_SYS_NICE CAP_NET_RAW
CapabilityBoundingSet=CAP_SYS_NICE CAP_NET_RAW
NoNewPrivileges=yes
ProtectHome=yes
PrivateTmp=yes

[Install]
WantedBy=multi-user.target
"""


def _plain(words: str) -> str:
    """Words that cannot end a line of the unit or be taken for a specifier."""
    return "".join(c for c in words if c.isprintable()).replace("%", "%%").replace("\\", "")


def _sources() -> list[tuple[str, bytes]]:
    root = Path(tarnfell.__file__).parent
    files = [root / "__init__.py", *(f for room in ROOMS for f in sorted((root / room).rglob("*.py")))]
    named = [(f"tarnfell/{file.relative_to(root).as_posix()}", file.read_bytes()) for file in files]
    return [("__main__.py", _MAIN.encode()), *named]


def _zip(entries: list[tuple[str, bytes]]) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as inside:
        for name, text in entries:
            inside.writestr(_entry(name), text)
    return packed.getvalue()


def _entry(name: str) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, _STAMP)
    entry.compress_type = zipfile.ZIP_DEFLATED
    return entry
