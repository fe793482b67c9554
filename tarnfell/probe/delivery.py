"""Results from the disk to the server: in order, each until the server has said that it has it, and then no more."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from tarnfell.media.diary import note
from tarnfell.probe.connect import CallError
from tarnfell.probe.halves import NotKept, completed
from tarnfell.probe.http import Refused, ServerClient, TurnedAway, Unreachable
from tarnfell.probe.spool import FAILURE, RECORD, SAMPLES, Spool, size_of
from tarnfell.wire import Unchecked
from tarnfell.wire.kinds.watch import MOST_TOGETHER
from tarnfell.wire.record import join_parts

LOOK_S = 1.0
OUTAGE_PAUSE_S = 5.0
MOST_BYTES_TOGETHER = 64 << 10
"""Of samples in one request: eight seconds of a line of 64 kbit/s."""


class Delivery:
    """A thread that delivers; a large record on a slow line holds up nothing but what comes after it."""

    def __init__(self, spool: Spool, client: ServerClient, ready: Callable[[int], bool]) -> None:
        """``ready``: whether a job is out of everybody's hands, so that its result may leave the disk."""
        self._spool = spool
        self._client = client
        self._ready = ready
        self._look = threading.Event()
        self._ended = threading.Event()
        self.turned_away: TurnedAway | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def look(self) -> None:
        """Something new is there."""
        self._look.set()

    def end(self, limit_s: float = 2.0) -> None:
        """What is on its way is not waited for: it is still on the disk."""
        self._ended.set()
        self._look.set()
        if self._thread.is_alive():
            self._thread.join(limit_s)

    def deliver(self) -> None:
        """All that waits. Raises Unreachable, TurnedAway, OSError."""
        for paths in _together(self._spool.waiting()):
            if self._ended.is_set():
                return
            if len(paths) > 1 and self._sent_together(paths):
                continue
            for path in paths:
                if self._ended.is_set():
                    return
                if path.suffix == SAMPLES or not path.stem.isdecimal() or self._ready(int(path.stem)):
                    self._deliver(path)

    def _run(self) -> None:
        silent = False
        while not self._ended.is_set():
            pause_s = LOOK_S
            try:
                self.deliver()
                silent = False
            except TurnedAway as error:
                self.turned_away = error
                return
            except Unreachable:
                pause_s = OUTAGE_PAUSE_S  # the heartbeat says so
            except Exception as error:  # whatever one file holds: the others must go on afterwards
                if not silent:
                    note(f"probe: a result could not be delivered ({error!r}); it is tried again.")
                silent, pause_s = True, OUTAGE_PAUSE_S
            self._look.wait(pause_s)
            self._look.clear()

    def _sent_together(self, paths: list[Path]) -> bool:
        """False where one of these batches is not there or not taken: each must then go by itself, which tells them
        apart."""
        try:
            body = join_parts([path.read_bytes() for path in paths])
            self._client.put(f"/api/probe/watches/{_watch_of(paths[0])}/samples", body)
        except TurnedAway:
            raise
        except (FileNotFoundError, Refused):
            return False
        for path in paths:
            path.unlink(missing_ok=True)
        return True

    def _deliver(self, path: Path) -> None:
        try:
            if path.suffix == RECORD and not self._complete(int(path.stem)):
                return
            self._send(path)
        except FileNotFoundError:
            return  # thinned just now, and renamed
        except TurnedAway:
            raise  # the results stay: whoever puts the server right gets them
        except Refused as error:
            # The server will never take it; keep it aside for whoever comes looking.
            _set_aside(path, f"was not taken ({error})")
            return
        except (ValueError, KeyError, TypeError) as error:
            # Damaged on this disk: it must not hold up what comes after it.
            _set_aside(path, f"cannot be read ({error})")
            return
        path.unlink(missing_ok=True)

    def _send(self, path: Path) -> None:
        if path.suffix == SAMPLES:
            watch, first_us = map(int, path.stem.split("-"))
            self._client.put(f"/api/probe/watches/{watch}/samples/{first_us}", path.read_bytes())
            return
        number = int(path.stem)
        if path.suffix == RECORD:
            self._client.put(f"/api/probe/jobs/{number}/record", path.read_bytes())
            return
        told: Unchecked = dict(json.loads(path.read_text()))
        if path.suffix == FAILURE:
            self._client.post(f"/api/probe/jobs/{number}/failure", told)
        elif told.get("failure"):  # as a program of before kept it
            self._client.post(f"/api/probe/jobs/{number}/failure", {"reason": told["failure"]})
        else:
            self._client.post(f"/api/probe/jobs/{number}/outcome", {"result": told["result"] or {}})

    def _complete(self, number: int) -> bool:
        """Join the far end's half to a run that was broken off, if it can be had; this end's half is enough.

        False while it is not time to deliver the run yet.
        """
        ticket = self._spool.ticket(number)
        if ticket is None:
            return True
        if not self._client.reachable():
            return False  # nobody to deliver to, and time for the far end to come back as well
        try:
            self._spool.keep_record(number, completed(self._spool.record(number), ticket))
        except NotKept as reason:
            if time.time() < ticket.until_s:
                return False
            note(f"probe: the far end has nothing to add to run {number}: {reason}")
        except CallError as error:
            note(f"probe: run {number} is delivered without the far end's half: {error}")
        self._spool.drop_ticket(number)
        return True


def _together(waiting: list[Path]) -> Iterator[list[Path]]:
    """What goes in one request, in the order it is sent: batches of one watch, all else by itself."""
    paths: list[Path] = []
    size = 0
    for path in waiting:
        own = size_of(path)
        full = len(paths) == MOST_TOGETHER or size + own > MOST_BYTES_TOGETHER
        if paths and (full or _watch_of(path) is None or _watch_of(path) != _watch_of(paths[0])):
            yield paths
            paths, size = [], 0
        paths.append(path)
        size += own
    if paths:
        yield paths


def _watch_of(path: Path) -> str | None:
    """Whose samples they are; None of all else."""
    watch, _, at = path.stem.partition("-")
    return str(int(watch)) if path.suffix == SAMPLES and watch.isdecimal() and at.isdecimal() else None


def _set_aside(path: Path, why: str) -> None:
    note(f"probe: {path.name} {why}; kept as {path.name}.refused")
    path.rename(path.with_suffix(path.suffix + ".refused"))
