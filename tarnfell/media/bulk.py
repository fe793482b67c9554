"""Bulk data for filling a line: blocks of noise at a bounded rate, and what arrived slot by slot."""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Callable

from tarnfell.wire.kinds.fill import SLOT_MS

BLOCK_BYTES = 1 << 16
_LOOK_S = 0.1


class Slots:
    """Bytes in slots of SLOT_MS from the first one on."""

    def __init__(self) -> None:
        self.bytes: list[int] = []
        self._begun: float | None = None

    def add(self, count: int) -> None:
        now = time.monotonic()
        if self._begun is None:
            self._begun = now
        slot = int((now - self._begun) * 1000 / SLOT_MS)
        self.bytes += [0] * (slot + 1 - len(self.bytes))
        self.bytes[slot] += count


def pour(
    sock: socket.socket,
    seconds: float,
    kbps: int,
    go_on: Callable[[], bool],
    left: Callable[[int], None] = lambda _: None,
) -> None:
    """Send noise for a time, at most at ``kbps`` (0: as fast as it goes). Raises OSError when the connection ends.

    ``left`` hears how many bytes have left, each time.
    """
    begun = time.monotonic()
    until, sent = begun + seconds, 0
    size = min(BLOCK_BYTES, max(1024, kbps * 1000 // 8 // 50)) if kbps else BLOCK_BYTES
    sock.settimeout(_LOOK_S)
    while go_on() and (now := time.monotonic()) < until:
        if kbps:
            due = begun + sent * 8 / (kbps * 1000)
            if due > now:
                time.sleep(min(due - now, _LOOK_S, until - now))
                continue
        try:
            count = sock.send(os.urandom(size))  # never the same twice: nothing on the way can make it fewer
        except socket.timeout:
            continue  # the line is full, as it should be
        sent += count
        left(count)
