"""Being a far end for others in the building."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.wire.kinds.fields import bounded


@dataclass(frozen=True)
class AnswerArguments:
    port: int = bounded(1, 65535)
    media_low: int = bounded(1, 65535)
    media_high: int = bounded(1, 65535)
    key: str = bounded(16, 200)


@dataclass(frozen=True)
class AnswerResult:
    addresses: tuple[str, ...] = bounded(most=64)
    """The probe's own."""
