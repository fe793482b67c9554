"""What goes on without end: samples taken of the way to a far end, as a wanted state and not as a job.

The server says what it wants and gives it a version; the probe compares, begins, changes or ends, and says which
version it runs. In each round all targets are asked at the same instant: far ends by time stamps, what lies on the way
to them by echoes. Samples come in batches, each a record (wire/record.py) of one row a sample and target; far ends are
numbered first, then the targets of echoes.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Optional

from tarnfell.wire.kinds.check import Role
from tarnfell.wire.kinds.fields import bounded

MAX_TARGETS = 8
MAX_ECHOES = 8
MAX_BATCH = 4096
"""Rows of one batch."""
MOST_TOGETHER = 100
"""Batches of one delivery."""

DUE, TARGET, FATE, BESIDE = "due_us", "target", "fate", "beside"
LARGE = "large"
"""1 where the packet was a large one; older probes have no such column and no such packets, or none to far ends."""
STAMPS = ("t1_ns", "t2_ns", "t3_ns", "t4_ns")
"""As in RFC 8762: sent, received there, answered there, received here; 0 where there is none. Of an echo the two in
the middle are not known."""
COLUMNS = (DUE, TARGET, FATE, BESIDE, *STAMPS)
"""``due_us`` is Unix time, ``beside`` the job that loaded the line just then, 0 for none."""

ANSWERED, LOST, NO_SESSION, NOT_SENT, STOOD_STILL = range(5)
"""Fates of a sample. Only ``LOST`` says anything of the way: without a session with the far end, with a network of its
own that is down, or with a machine that sleeps nothing was sent."""
FATES = frozenset((ANSWERED, LOST, NO_SESSION, NOT_SENT, STOOD_STILL))


@dataclass(frozen=True)
class WatchTarget:
    far_end_id: int
    host: str
    port: int = bounded(1, 65535)
    key: str = bounded(1, 200)
    dscp: int = bounded(0, 63)


@dataclass(frozen=True)
class EchoTarget:
    role: Role
    address: str = bounded(most=100, default="")
    """None of a gateway is the one that the system has at the time."""


@dataclass(frozen=True)
class Watch:
    id: int = bounded(1)
    version: int = bounded(1)
    interval_ms: int = bounded(100, 60_000)
    """From one sample of a target to the next."""
    targets: tuple[WatchTarget, ...] = bounded(0, MAX_TARGETS)
    echoes: tuple[EchoTarget, ...] = bounded(0, MAX_ECHOES, default=())
    large_every: int = bounded(0, 1000, default=0)
    """Each so many-th round of echoes is of large packets; 0: none is."""
    large_bytes: int = bounded(100, 9000, default=1400)
    """On the line, IP's header in it."""


@dataclass(frozen=True)
class WatchRunning:
    """What a probe says of it at each heartbeat."""

    id: int
    version: int
    trouble: Optional[str] = bounded(most=300, default=None)
    """What is in the way of samples; None for nothing."""
