"""Names and services asked again and again beside a watch: the part of a check that costs nothing to repeat."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.wire.kinds.check import MAX_SERVICES, NameFacts, ServiceAsked, ServiceFacts
from tarnfell.wire.kinds.fields import bounded


@dataclass(frozen=True)
class ServicesArguments:
    names: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    """Empty: the system's own."""
    services: tuple[ServiceAsked, ...] = bounded(most=MAX_SERVICES, default=())


@dataclass(frozen=True)
class ServicesResult:
    """What was not asked any more, because it was stopped, is left out."""

    names: tuple[NameFacts, ...] = ()
    services: tuple[ServiceFacts, ...] = ()
