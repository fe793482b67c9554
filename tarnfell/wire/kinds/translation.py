"""Address translation on the way: what packets arrive from, and how long the way back stays open."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Optional


@dataclass(frozen=True)
class Mapped:
    """What one port of the far end saw packets of one socket come from (RFC 8489)."""

    port: int
    address: str
    from_port: int


@dataclass(frozen=True)
class Kept:
    """A socket that was silent for so long: whether a packet from the far end still came through to it."""

    silent_s: float
    heard: Optional[bool]
    """None where it could not be told: the far end was not heard at all just then."""


@dataclass(frozen=True)
class TranslationFacts:
    own_address: str = ""
    own_port: int = 0
    mapped: tuple[Mapped, ...] = ()
    """By the far end's ports; empty where no answer came."""
    kept: tuple[Kept, ...] = ()
    failure: Optional[str] = None
    """Why the far end did not take part."""
