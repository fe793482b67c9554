"""Looks from the server itself, each in a thread of its own: they wait for echoes, and compute nothing to speak of."""

from __future__ import annotations

import logging
import sqlite3
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from tarnfell.store import server_looks as look_store
from tarnfell.store.db import connect, writing
from tarnfell.wire.kinds.look import LookArguments, LookResult

log = logging.getLogger(__name__)

Look = Callable[[LookArguments, Callable[[], bool], Callable[[LookResult], None]], LookResult]
"""Takes what is asked, whether to go on, and whom to tell what is known so far; gives all of it. Raises OSError."""
AT_ONCE = 4
TURN_S = 0.25
ENDED = "The server was started anew in the middle of it."


class Looks:
    def __init__(self, data: Path, look: Look) -> None:
        self._data, self._look = data, look
        self._under_way: dict[int, threading.Thread] = {}
        self._over = threading.Event()
        with _Here(data) as here, writing(here.db):
            for one in look_store.open_ones(here.db):
                if one.state == "running":
                    look_store.end(here.db, one.id, ENDED)

    def turn(self, db: sqlite3.Connection) -> None:
        """Begin those that wait, as many at once as may be; the others go on waiting."""
        self._under_way = {number: one for number, one in self._under_way.items() if one.is_alive()}
        waiting = [one for one in look_store.open_ones(db) if one.state == "waiting"]
        for one in waiting[: max(0, AT_ONCE - len(self._under_way))]:
            with writing(db):
                look_store.begin(db, one.id)
            thread = threading.Thread(target=self._take, args=(one.id, one.asked), name=f"look {one.id}")
            self._under_way[one.id] = thread
            thread.start()

    def end(self) -> None:
        self._over.set()
        for thread in self._under_way.values():
            thread.join()

    def _take(self, number: int, asked: LookArguments) -> None:
        failure: str | None = None
        try:
            found = self._look(asked, _Wanted(self._data, number, self._over), partial(self._tell, number))
            failure = found.cannot[0] if found.cannot else None
            self._tell(number, found)
        except Exception as error:  # one look's fault is its own
            log.exception("look %s", number)
            failure = f"It could not be done: {error}"
        with _Here(self._data) as here, writing(here.db):
            look_store.end(here.db, number, failure)

    def _tell(self, number: int, known: LookResult) -> None:
        with _Here(self._data) as here, writing(here.db):
            look_store.tell(here.db, number, known)


class _Wanted:
    """Whether somebody still wants it, asked of the database a few times a second at the most."""

    def __init__(self, data: Path, number: int, over: threading.Event) -> None:
        self._data, self._number, self._over = data, number, over
        self._looked = 0.0
        self._is_wanted = True

    def __call__(self) -> bool:
        if self._over.is_set():
            return False
        if time.monotonic() > self._looked + TURN_S:
            self._looked = time.monotonic()
            with _Here(self._data) as here:
                one = look_store.by_id(here.db, self._number)
            self._is_wanted = one is not None and not one.stopped
        return self._is_wanted


class _Here:
    """A connection for as long as a block: each thread has its own."""

    def __init__(self, data: Path) -> None:
        self.db = connect(data)

    def __enter__(self) -> _Here:
        return self

    def __exit__(self, *_: object) -> None:
        self.db.close()
