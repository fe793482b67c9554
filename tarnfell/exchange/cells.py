"""Cells of a CSV file that a spreadsheet may open."""

from __future__ import annotations

_FORMULA = ("=", "+", "-", "@")


def guarded(text: str) -> str:
    """A spreadsheet would run a cell that begins like a formula: it is written with an apostrophe before it."""
    return f"'{text}" if text[:1] in _FORMULA else text


def without_guard(text: str) -> str:
    """What ``guarded`` wrote."""
    bare = text.strip()
    return bare[1:] if bare[:1] == "'" and bare[1:2] in _FORMULA else bare
