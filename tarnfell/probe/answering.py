"""The far end that this probe is for others in the building: a process that stands until it is told to end."""

from __future__ import annotations

import subprocess
import tempfile
import time
from pathlib import Path
from typing import IO

from tarnfell.media import host
from tarnfell.media.diary import note
from tarnfell.probe.program import command_line
from tarnfell.probe.state import State
from tarnfell.probe.surroundings import addresses
from tarnfell.probe.works.distances import distance
from tarnfell.probe.works.work import WorkFailed
from tarnfell.wire.kinds.answer import AnswerArguments, AnswerResult
from tarnfell.wire.kinds.fields import KindError, plain, read

STARTS_WITHIN_S = 10.0
AGAIN_S = 30.0
"""After it ended by itself, or could not be started."""
WANTED = "answering"


class Answering:
    """Kept up by ``keep_up``, which the supervisor calls often; ``begin`` and ``cease`` take seconds."""

    def __init__(self, state: State) -> None:
        self._state = state
        self._process: subprocess.Popen[bytes] | None = None
        self._again_s = 0.0

    def begin(self, how: AnswerArguments) -> AnswerResult:
        """Listen, and keep doing so. Raises WorkFailed."""
        self.cease()
        self._start(how)
        self._state.keep_wanted(WANTED, plain(how))
        return AnswerResult(tuple(line.split()[1].split("/")[0] for line in addresses(Path("/"))))

    def cease(self) -> None:
        self._state.keep_wanted(WANTED, None)  # first, or it would be kept up
        self.end()

    def keep_up(self) -> None:
        """Answer again after a restart, or after the process ended."""
        if (self._process and self._process.poll() is None) or time.monotonic() < self._again_s:
            return
        told = self._state.wanted(WANTED)
        if told is None:
            return
        self._again_s = time.monotonic() + AGAIN_S
        try:
            self._process = self._spawn(read(AnswerArguments, told))
        except (KindError, OSError) as error:
            note(f"probe: calls cannot be answered ({error}); it is tried again.")

    def end(self) -> None:
        if self._process and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(5)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
        self._process = None

    def _start(self, how: AnswerArguments) -> None:
        try:
            words_to = tempfile.TemporaryFile()  # noqa: SIM115 (its own, for as long as the process lives)
            process = self._spawn(how, words_to)
        except OSError as error:
            raise WorkFailed(f"The far end could not be started: {error.strerror}.") from None
        deadline = time.monotonic() + STARTS_WITHIN_S
        while time.monotonic() < deadline:
            if process.poll() is not None:
                words_to.seek(0)
                words = words_to.read().decode(errors="replace").strip().splitlines()
                raise WorkFailed(words[-1] if words else "The far end ended as soon as it was started.")
            if distance("127.0.0.1", how.port, 1)[0] is not None:
                self._process = process
                return
            time.sleep(0.1)
        process.kill()
        process.wait()
        raise WorkFailed("The far end did not start to listen.")

    def _spawn(self, how: AnswerArguments, words_to: IO[bytes] | int = subprocess.DEVNULL) -> subprocess.Popen[bytes]:
        process = subprocess.Popen(
            command_line(
                "--state", str(self._state.folder), "answer", str(how.port), str(how.media_low), str(how.media_high)
            ),
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=words_to,
            start_new_session=not host.HERE.windows,
        )
        assert process.stdin is not None
        try:
            process.stdin.write(how.key.encode() + b"\n")
            process.stdin.flush()
        except BrokenPipeError:
            pass  # it ended at once and says why
        return process
