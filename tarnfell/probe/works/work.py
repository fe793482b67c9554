"""The shape that every kind of work has: what it is given, what it may say meanwhile, and how it ends."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from tarnfell.probe.http import ServerClient
from tarnfell.probe.spool import Spool
from tarnfell.wire.failures import OTHER, Failure


class WorkFailed(Exception):
    """It could not be done."""

    def __init__(self, reason: str, code: str = OTHER, server_reachable: bool | None = None) -> None:
        super().__init__(reason)
        self.failure = Failure(code, reason, server_reachable)


@dataclass(frozen=True)
class Hands:
    """What work may use."""

    job: int
    spool: Spool
    """Where its result is kept before the work ends."""
    client: ServerClient
    go_on: Callable[[], bool]
    """False once it is to stop; asked at least every tenth of a second from when it has begun."""
    begin: Callable[[], None]
    """Said once there is something to lose: work that is stopped before may be ended without more ado."""
    beside: Callable[[], int]
    """The job that loads the line meanwhile; 0 for none."""
    tell: Callable[[Mapping[str, object]], None]
    """What is known by now, about once a second."""


class Work(Protocol):
    def __call__(self, arguments: Any, hands: Hands) -> None:
        """Do it and keep the result in the spool. Raises WorkFailed."""
