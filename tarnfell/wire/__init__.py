"""Bytes ⇄ values for the protocols Tarnfell speaks. No sockets, no clock, standard library only.

Each file is one protocol noun: a frozen dataclass with ``parse`` and
``serialize`` beside each other. Whatever the bytes, parsing raises nothing but
``WireError``.
"""


class WireError(ValueError):
    """Bytes that are not what they should be; the text says how."""
