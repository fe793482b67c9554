"""One command line over all of Tarnfell."""

from __future__ import annotations

from tarnfell.cli.verbs import main

__all__ = ["main"]
