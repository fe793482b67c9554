"""Bytes ⇄ values for the protocols Tarnfell speaks. No sockets, no clock, standard library only.

Each file is one protocol noun: a frozen dataclass with ``parse`` and
``serialize`` beside each other. Whatever the bytes, parsing raises nothing but
``WireError``.
"""

from __future__ import annotations

from typing import Any


class WireError(ValueError):
    """Bytes that are not what they should be; the text says how."""


Unchecked = dict[str, Any]
"""A JSON object as somebody told it: nothing in it is known to be there, or to be what it should."""
