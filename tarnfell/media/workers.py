"""Work beside one's own, in a process where the system forks, in a thread where it does not. It comes to some bytes.

Begin it before there are other threads: what they hold is held for ever in a forked child.
"""

from __future__ import annotations

import os
import signal
import tempfile
import threading
import traceback
from collections.abc import Callable
from typing import IO, Protocol

from tarnfell.media import host
from tarnfell.media.host import die_with


class WorkerLost(RuntimeError):
    """A worker ended before its work was done; the text says how."""


def begin(work: Callable[[], bytes]) -> Worker:
    return Forked(work) if host.HERE.forks else Threaded(work)


class Worker(Protocol):
    def check(self) -> None:
        """Raises WorkerLost when the worker died before its work was done."""

    def is_over(self) -> bool:
        """Whether ``result`` need not be waited for. Raises WorkerLost."""

    def result(self) -> bytes:
        """What the work came to, once it is done. Raises WorkerLost."""

    def kill(self) -> None: ...


class Forked:
    """A child process that writes what it came to into an unnamed file and leaves."""

    def __init__(self, work: Callable[[], bytes]) -> None:
        # Bounded by the work itself: of a run it is a few bytes a packet.
        self._file: IO[bytes] = tempfile.TemporaryFile()  # noqa: SIM115
        self._status: int | None = None
        parent = os.getpid()
        self._pid = os.fork()
        if self._pid == 0:
            code = 1
            try:
                signal.signal(signal.SIGINT, signal.SIG_IGN)
                signal.signal(signal.SIGTERM, signal.SIG_DFL)
                die_with(parent)
                self._file.write(work())
                self._file.flush()
                code = 0
            except BaseException:
                traceback.print_exc()
            finally:
                os._exit(code)

    def check(self) -> None:
        if self._status is None:
            pid, status = os.waitpid(self._pid, os.WNOHANG)
            if pid:
                self._status = status
        if self._status:
            raise WorkerLost("A measuring process was ended from outside; its part of the record is lost.")

    def is_over(self) -> bool:
        self.check()
        return self._status is not None

    def result(self) -> bytes:
        if self._status is None:
            self._status = os.waitpid(self._pid, 0)[1]
        self.check()
        with self._file as file:
            file.seek(0)
            return file.read()

    def kill(self) -> None:
        if self._status is None:
            os.kill(self._pid, 9)
            self._status = os.waitpid(self._pid, 0)[1]
        self._file.close()


class Threaded:
    def __init__(self, work: Callable[[], bytes]) -> None:
        self._told: bytes | None = None
        self._error: BaseException | None = None
        self._thread = threading.Thread(target=self._run, args=(work,), daemon=True)
        self._thread.start()

    def _run(self, work: Callable[[], bytes]) -> None:
        try:
            self._told = work()
        except BaseException as error:
            self._error = error

    def check(self) -> None:
        if self._error:
            raise WorkerLost(f"A measuring thread failed: {self._error}.")

    def is_over(self) -> bool:
        self.check()
        return not self._thread.is_alive()

    def result(self) -> bytes:
        self._thread.join()
        self.check()
        assert self._told is not None
        return self._told

    def kill(self) -> None:
        self._thread.join(5)
