"""A data folder or one engagement taken away as an archive, and put back."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import asdict
from pathlib import Path
from typing import Any, BinaryIO

from tarnfell.cli.common import DONE, print_report
from tarnfell.store import backup as archive
from tarnfell.store.backup import Manifest
from tarnfell.store.db import FILE_NAME, connect, now_us
from tarnfell.store.moving import export_engagement, import_engagement
from tarnfell.work.watch.packing import pack_next


def backup(options: argparse.Namespace) -> int:
    return _written(options, lambda file: archive.back_up(Path(options.data), file))


def engagement_export(options: argparse.Namespace) -> int:
    data = Path(options.data)
    if (data / FILE_NAME).is_file():
        # Samples as they came name their places by this installation's numbers; packed, by their own.
        with closing(connect(data)) as db:
            while pack_next(db, now_us()):
                pass
    return _written(options, lambda file: export_engagement(data, options.slug, file))


def _written(options: argparse.Namespace, write: Callable[[BinaryIO], Manifest]) -> int:
    if options.out == "-":
        write(sys.stdout.buffer)
        return DONE
    out = Path(options.out)
    half = out.with_name(f"{out.name}.half")
    try:
        # A backup holds the passwords' hashes and the keys of the installation.
        handle = os.open(half, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "wb") as file:
            manifest = write(file)
            file.flush()
            os.fsync(file.fileno())
        half.replace(out)
    finally:
        half.unlink(missing_ok=True)
    _tell(options, manifest, f"{out} holds")
    return DONE


def engagement_import(options: argparse.Namespace) -> int:
    try:
        with Path(options.file).open("rb") as file:
            moved = import_engagement(file, Path(options.data), options.email, options.slug)
    except FileNotFoundError:
        raise ValueError(f"There is no file {options.file}.") from None
    print_report(options, asdict(moved), _moved)
    return DONE


def _moved(told: Mapping[str, Any]) -> str:
    sites = told["sites"]
    lines = [f"{told['slug']} is here, with {len(sites)} {'site' if len(sites) == 1 else 'sites'}: {', '.join(sites)}."]
    if told["without_key"]:
        lines.append(
            f"Give the key of these far ends before calls are placed to them: {', '.join(told['without_key'])}."
        )
    lines.append("Probes are enrolled anew; plans, watches and rules for alerts are switched off.")
    return "\n".join(lines)


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
