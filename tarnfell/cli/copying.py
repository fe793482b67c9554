"""A data folder taken away whole, and put back."""

from __future__ import annotations

import argparse
import os
import sys
from dataclasses import asdict
from pathlib import Path

from tarnfell.cli.common import DONE, print_report
from tarnfell.store import backup as archive
from tarnfell.store.backup import Manifest


def backup(options: argparse.Namespace) -> int:
    data = Path(options.data)
    if options.out == "-":
        archive.back_up(data, sys.stdout.buffer)
        return DONE
    out = Path(options.out)
    half = out.with_name(f"{out.name}.half")
    try:
        # It holds the passwords' hashes and the keys of the installation.
        handle = os.open(half, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "wb") as file:
            manifest = archive.back_up(data, file)
            file.flush()
            os.fsync(file.fileno())
        half.replace(out)
    finally:
        half.unlink(missing_ok=True)
    _tell(options, manifest, f"{out} holds")
    return DONE


def restore(options: argparse.Namespace) -> int:
    try:
        with Path(options.file).open("rb") as file:
            manifest = archive.restore(file, Path(options.data))
    except FileNotFoundError:
        raise ValueError(f"There is no file {options.file}.") from None
    _tell(options, manifest, f"{options.data} is put back:")
    return DONE


def _tell(options: argparse.Namespace, manifest: Manifest, words: str) -> None:
    told = asdict(manifest) | {"bytes": sum(size for size, _ in manifest.files.values())}
    print_report(
        options,
        told,
        lambda r: f"{words} {len(r['files'])} files, {r['bytes'] / 1e6:.1f} MB, as of {r['made_at']}.",
    )
