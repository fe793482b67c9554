"""What this machine allows a measuring process, and how it disturbs it."""

from __future__ import annotations

import ctypes
import gc
import os
import signal
import sys
import time
from dataclasses import dataclass

from tarnfell.wire.kinds.selfcheck import ClockStep


@dataclass(frozen=True)
class Platform:
    """What sort of system this is: the one place that is asked, and that a test need put another in."""

    linux: bool
    windows: bool
    forks: bool


HERE = Platform(sys.platform.startswith("linux"), os.name == "nt", hasattr(os, "fork"))
STEP_NS = 1_000_000
"""The system clock moving this much against the monotonic one between two looks is a step, not slewing."""
_PR_SET_TIMERSLACK = 29
_PR_SET_PDEATHSIG = 1


def raise_priority() -> str:
    """Ask for the best scheduling this process may have; says what it got: real-time, raised or ordinary."""
    gc.disable()
    if HERE.linux:
        try:
            ctypes.CDLL(None).prctl(_PR_SET_TIMERSLACK, 1000, 0, 0, 0)
        except (OSError, AttributeError):
            pass  # a C library without prctl: timers stay coarse by 50 µs
        try:
            os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
            return "real-time"
        except (OSError, AttributeError):
            pass
    try:
        os.nice(-10)
        return "raised"
    except (OSError, AttributeError):
        return "ordinary"


def die_with(parent: int) -> None:
    """Have the kernel end this child when its parent ends, however it ends: nothing is left sending."""
    try:
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    except (OSError, AttributeError):
        return  # not Linux: the parent's clean-up has to do
    if os.getppid() != parent:
        os._exit(1)


def clock_id() -> str | None:
    """Names the clock this machine runs on: two ends with the same name read one and the same clock."""
    try:
        with open("/proc/sys/kernel/random/boot_id") as file:
            return file.read().strip()
    except OSError:
        return None


def asleep_ns() -> int:
    """How long this machine has been asleep since it was started; 0 where the system does not tell."""
    try:
        return time.clock_gettime_ns(time.CLOCK_BOOTTIME) - time.monotonic_ns()  # type: ignore[attr-defined,unused-ignore]
    except (AttributeError, OSError):
        return 0


class ClockWatch:
    """Notices when the system clock is set while it is being used to stamp packets."""

    def __init__(self) -> None:
        self.steps: list[ClockStep] = []
        self._apart = self._look()

    @staticmethod
    def _look() -> int:
        # The pair is torn when the process loses its processor in between; the tightest of a few is whole.
        best: tuple[int, int] | None = None
        for _ in range(5):
            before = time.monotonic_ns()
            real = time.time_ns()
            width = time.monotonic_ns() - before
            if best is None or width < best[0]:
                best = (width, real - before)
        assert best is not None
        return best[1]

    def look(self) -> None:
        apart = self._look()
        moved = apart - self._apart
        if abs(moved) >= STEP_NS:
            self.steps.append(ClockStep(time.time_ns() // 1000, moved / 1e6))
        self._apart = apart


class CpuWatch:
    """How long this process was ready to run but was not let, and what the hypervisor took."""

    def __init__(self) -> None:
        self._start = time.monotonic_ns()
        self._waited = self._run_wait_ns()
        self._stolen = self._stolen_ticks()

    def report(self) -> dict[str, float | None]:
        """Shares of the time since the watch began, in percent; None where the system does not tell."""
        took = max(1, time.monotonic_ns() - self._start)
        waited, stolen = self._run_wait_ns(), self._stolen_ticks()
        wait = None if waited is None or self._waited is None else 100 * (waited - self._waited) / took
        steal = None
        if stolen is not None and self._stolen is not None:
            ticks = os.sysconf("SC_CLK_TCK") * (os.cpu_count() or 1) * took / 1e9
            steal = 100 * (stolen - self._stolen) / max(1.0, ticks)
        return {"cpu_wait_pct": wait, "cpu_stolen_pct": steal}

    @staticmethod
    def _run_wait_ns() -> int | None:
        try:
            with open("/proc/self/schedstat") as file:
                return int(file.read().split()[1])
        except (OSError, IndexError, ValueError):
            return None

    @staticmethod
    def _stolen_ticks() -> int | None:
        try:
            with open("/proc/stat") as file:
                return int(file.readline().split()[8])
        except (OSError, IndexError, ValueError):
            return None
