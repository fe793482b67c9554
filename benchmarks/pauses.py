"""When this machine took a processor away from everything on it.

A program that runs before all others on one processor wakes every half millisecond. Where even it woke late, nothing
ran there. A thread's own processor time does not tell: on a borrowed processor it grows through such a pause.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from bisect import bisect_left
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

_LOOK_NS = 500_000
_LATE_NS = 500_000


@dataclass
class Pauses:
    """From and to, in monotonic nanoseconds, in order."""

    spans: list[tuple[int, int]] = field(default_factory=list)

    def within(self, begin_ns: float, end_ns: float) -> float:
        """Nanoseconds of a span of time in which nothing ran."""
        first = bisect_left(self.spans, begin_ns, key=lambda span: span[1])
        total = 0.0
        for begin, end in self.spans[first:]:
            if begin >= end_ns:
                break
            total += min(end, end_ns) - max(begin, begin_ns)
        return total


@contextmanager
def witnessed(processor: int) -> Iterator[Pauses]:
    """What the witness on this processor saw; whole when the block has ended."""
    found = Pauses()
    child = subprocess.Popen(
        [sys.executable, "-m", "benchmarks.pauses", str(processor)],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        yield found
        told, _ = child.communicate("", timeout=60)
        found.spans += [(begin, end) for begin, end in json.loads(told)]
    finally:
        child.kill()
        child.wait()


def main(processor: int) -> None:
    """Watch until the standard input ends, then write the pauses as JSON."""
    os.sched_setaffinity(0, {processor})
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(50))
    ended = threading.Event()

    def await_the_end() -> None:
        sys.stdin.read()
        ended.set()

    threading.Thread(target=await_the_end, daemon=True).start()
    spans = []
    while not ended.is_set():
        due = time.monotonic_ns() + _LOOK_NS
        time.sleep(_LOOK_NS / 1e9)
        woke = time.monotonic_ns()
        if woke - due > _LATE_NS:
            spans.append((due, woke))
    json.dump(spans, sys.stdout)


if __name__ == "__main__":
    main(int(sys.argv[1]))
