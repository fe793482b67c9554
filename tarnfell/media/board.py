"""Counters that the sending and the receiving process share with the one that watches them.

One page of anonymous shared memory, each cell a 64-bit number written by one
process only, so that nothing is ever locked.
"""

from __future__ import annotations

import mmap

# Cells of the whole run.
STOP = 0
RECEIVER_STOP = 1
LATE_MAX_US = 2
QUEUE_DROPS = 3
NOT_SENT = 4
RTT_US = 5
REFUSED = 6
STRAYS = 7
_RUN_CELLS = 8

# Cells of each call.
SENT = 0
RECEIVED = 1
EXPECTED = 2
"""Packets up to the highest sequence number seen: what should have arrived by now."""
LATE = 3
"""Arrived more than LATE_US behind the fastest packet."""
JITTER_US = 4
MIN_TRANSIT_US = 5
LAST_TRANSIT_US = 6
RTCP_RTT_US = 7
CALL_CELLS = 8

LATE_US = 60_000
"""The usual depth of a listener's buffer; only the live view uses it, judgement works on the packets."""


class Board:
    def __init__(self, calls: int) -> None:
        self.calls = calls
        self._memory = mmap.mmap(-1, 8 * (_RUN_CELLS + CALL_CELLS * calls))
        self.cells = memoryview(self._memory).cast("q")

    @staticmethod
    def at(call: int, cell: int) -> int:
        """Where a call's cell stands."""
        return _RUN_CELLS + CALL_CELLS * call + cell

    def call(self, call: int) -> list[int]:
        start = self.at(call, 0)
        return self.cells[start : start + CALL_CELLS].tolist()
