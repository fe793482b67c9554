"""Children that do one work each, as the supervisor has them: told what to do, heard, stopped and ended."""

from __future__ import annotations

import json
import queue
import subprocess
import threading
import time
from collections.abc import Callable, Mapping

from tarnfell.media import host
from tarnfell.media.diary import note
from tarnfell.probe.http import Refused, ServerClient, Unreachable
from tarnfell.probe.program import command_line
from tarnfell.wire import Unchecked

STOP_LIMIT_S = 1.0
"""For a work to end that has not begun to measure: nothing is lost with it."""
END_LIMIT_S = 180.0
"""For a work that has measured to bring in what it has: the far end's half of a long run takes a while."""


class Child:
    """The process, its input and what it says."""

    def __init__(self, arguments: list[str], first: Mapping[str, object], hear: Callable[[Unchecked], None]) -> None:
        """Raises OSError where no process can be started."""
        self._hear = hear
        self._writing = threading.Lock()
        self.begun = False
        """Whether there is something to lose."""
        self._process = subprocess.Popen(
            command_line(*arguments),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            # A Ctrl-C is for the supervisor, which tells its children itself.
            start_new_session=not host.HERE.windows,
        )
        self.order(first)
        self._ear = threading.Thread(target=self._listen, daemon=True)
        self._ear.start()

    @property
    def pid(self) -> int:
        return self._process.pid

    def order(self, what: Mapping[str, object]) -> None:
        """One that has ended hears nothing."""
        assert self._process.stdin is not None
        with self._writing:
            try:
                self._process.stdin.write(json.dumps(what).encode() + b"\n")
                self._process.stdin.flush()
            except (BrokenPipeError, ValueError):
                pass

    def kill(self) -> None:
        self._process.kill()

    def ended(self) -> int | None:
        """How it ended; None while it runs."""
        if self._process.poll() is None:
            return None
        self._ear.join(5)
        with self._writing:
            for pipe in (self._process.stdin, self._process.stdout):
                assert pipe is not None
                try:
                    pipe.close()
                except BrokenPipeError:
                    pass  # an order it no longer heard
        return self._process.returncode

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            try:
                said = dict(json.loads(line))
            except (ValueError, TypeError):
                note(f"probe: not understood from a child: {line[:200]!r}")
                continue
            self.begun = self.begun or bool(said.get("begun"))
            if "tell" in said:
                self._hear(said["tell"])


class Worker:
    """A child that does one job."""

    def __init__(self, arguments: list[str], job: Mapping[str, object], client: ServerClient) -> None:
        self._client = client
        # Seconds of calls are counted, of other work what is known so far is told whole.
        self._news_path = f"/api/probe/jobs/{job['id']}/{'progress' if job['kind'] == 'calls' else 'known'}"
        self._news: queue.Queue[Unchecked | None] = queue.Queue(maxsize=30)
        self._stop_by: float | None = None
        self.child = Child(arguments, job, self._hear)
        threading.Thread(target=self._tell, daemon=True).start()

    def stop(self) -> None:
        """Told at once; one that does not heed it is ended."""
        if self._stop_by is None:
            self.child.order({"stop": True})
            self._stop_by = time.monotonic() + (END_LIMIT_S if self.child.begun else STOP_LIMIT_S)

    @property
    def stopped_early(self) -> bool:
        """Before there was anything to lose."""
        return self._stop_by is not None and not self.child.begun

    def ended(self) -> int | None:
        if self._stop_by is not None and time.monotonic() > self._stop_by:
            self.child.kill()
        code = self.child.ended()
        if code is not None:
            try:
                self._news.put_nowait(None)
            except queue.Full:
                pass  # the server is away: it gets the record
        return code

    def _hear(self, said: Unchecked) -> None:
        try:
            self._news.put_nowait(said)
        except queue.Full:
            pass  # the server is away; it will have the record

    def _tell(self) -> None:
        """The server, without ever holding up the work."""
        while True:
            said = self._news.get()
            if said is None:
                return
            try:
                if self._client.post(self._news_path, said).get("stop"):
                    self.stop()
            except (Unreachable, Refused):
                continue


class Inside:
    """What is done in this process, beside everything else; it keeps its result itself."""

    stopped_early = False

    def __init__(self, work: Callable[[], None]) -> None:
        self._thread = threading.Thread(target=work, daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """It looks for itself whether the probe goes on."""

    def ended(self) -> int | None:
        return None if self._thread.is_alive() else 0


class Daemon:
    """A child that is to run without end: started again when it ends, more and more seldom."""

    FIRST_PAUSE_S, LONGEST_PAUSE_S, SETTLED_S = 1.0, 60.0, 60.0

    def __init__(self, start: Callable[[], Child]) -> None:
        self._start = start
        self._pause_s = self.FIRST_PAUSE_S
        self._begun_s = 0.0
        self._again_s = 0.0
        self.child: Child | None = None

    def keep_up(self) -> None:
        """Called often."""
        now = time.monotonic()
        if self.child is not None:
            if self.child.ended() is None:
                return
            self.child = None
            self._pause_s = self.FIRST_PAUSE_S if now - self._begun_s > self.SETTLED_S else self._pause_s * 2
            self._again_s = now + min(self._pause_s, self.LONGEST_PAUSE_S)
        if now < self._again_s:
            return
        try:
            self.child, self._begun_s = self._start(), now
        except OSError as error:
            note(f"probe: a process could not be started: {error.strerror}")
            self._again_s = now + self.LONGEST_PAUSE_S

    def end(self, limit_s: float = 3.0) -> None:
        if self.child is None:
            return
        self.child.order({"stop": True})
        deadline = time.monotonic() + limit_s
        while self.child.ended() is None:
            if time.monotonic() > deadline:
                self.child.kill()
                deadline = float("inf")
            time.sleep(0.02)
        self.child = None
