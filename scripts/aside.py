"""Runs a command with what the others leave of the processor: ``python scripts/aside.py COMMAND…``.

For tests that compute and keep no time, beside those that send packets on time. A session of its own, since the kernel
shares the processor among sessions first (autogroups) and among the programs of one only then.
"""

from __future__ import annotations

import ctypes
import os
import signal
import sys
from pathlib import Path

_PR_SET_PDEATHSIG = 1


def main() -> None:
    try:
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)  # make's end is this one's
        os.setsid()
        Path("/proc/self/autogroup").write_text("19")
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    except (AttributeError, OSError):
        os.nice(19)  # another system, or one without such groups
    os.execvp(sys.argv[1], sys.argv[1:])


if __name__ == "__main__":
    main()
