"""Replacing the probe's program by the server's."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.wire.kinds.fields import bounded


@dataclass(frozen=True)
class UpdateArguments:
    program: str
    """The digest that names the program's code."""
    sha256: str = bounded(64, 64)
    """Of the file."""


@dataclass(frozen=True)
class UpdateResult:
    program: str
    """Of the program that now runs."""
