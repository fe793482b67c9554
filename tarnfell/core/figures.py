"""How figures are written in sentences: the same way as on every screen."""

from __future__ import annotations


def count(value: float) -> str:
    """A whole number with its thousands apart (ISO 80000-1 §7.3.1), by a space at which no line breaks."""
    return f"{value:,.0f}".replace(",", "\u00a0")
