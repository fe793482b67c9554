"""The watch this probe was asked for, kept up beside everything else, also while the server is away."""

from __future__ import annotations

from collections.abc import Mapping

from tarnfell.probe.state import State
from tarnfell.probe.worker import Child, Daemon

WANTED = "watch"


class Watching:
    """What is wanted is on the disk, so that it goes on after a reboot without being asked again."""

    def __init__(self, state: State) -> None:
        self._state = state
        self._wanted = state.wanted(WANTED)
        self._daemon: Daemon | None = None
        self._beside = 0
        self._trouble: str | None = None

    def want(self, wanted: Mapping[str, object] | None) -> None:
        """Begin, change or end it; the same again changes nothing."""
        if wanted == self._wanted:
            return
        self._state.keep_wanted(WANTED, wanted)
        self._wanted = wanted
        self.end()

    def told(self) -> Mapping[str, object] | None:
        """Which version runs, for the server; None where none does."""
        if self._daemon is None or self._daemon.child is None or self._wanted is None:
            return None
        return {"id": self._wanted["id"], "version": self._wanted["version"], "trouble": self._trouble}

    def keep_up(self, loading: int) -> None:
        """Called often, with the job that loads the line just now; samples are labelled with it."""
        if self._wanted is None:
            return
        if self._daemon is None:
            self._daemon = Daemon(self._start)
        self._daemon.keep_up()
        if self._daemon.child is not None and loading != self._beside:
            self._daemon.child.order({"beside": loading})
            self._beside = loading

    def end(self) -> None:
        """Until it is kept up again."""
        if self._daemon is not None:
            self._daemon.end()
            self._daemon = None

    def _start(self) -> Child:
        assert self._wanted is not None
        self._beside, self._trouble = 0, None
        return Child(["--state", str(self._state.folder), "watch"], self._wanted, self._hear)

    def _hear(self, said: Mapping[str, object]) -> None:
        trouble = said.get("trouble")
        self._trouble = None if trouble is None else str(trouble)[:300]
