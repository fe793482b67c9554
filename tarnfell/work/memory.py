"""What a process has worked out and may be asked for again, as much of it as there is room for."""

from __future__ import annotations

import random
import sqlite3
import threading
from typing import Generic, TypeVar

T = TypeVar("T")

_Key = tuple[str, int]


class Memory(Generic[T]):
    """By database and number, each with a mark of what it was worked out from. Any thread may use it."""

    def __init__(self, room: int) -> None:
        self.room = room
        """Of all that is kept, in whatever ``takes`` is counted in."""
        self._taken = 0
        self._kept: dict[_Key, tuple[str, T, int]] = {}
        self._lock = threading.Lock()

    def of(self, db: sqlite3.Connection, number: int) -> tuple[str, T] | None:
        with self._lock:
            known = self._kept.get(_key(db, number))
            return known[:2] if known else None

    def keep(self, db: sqlite3.Connection, number: int, mark: str, found: T, takes: int) -> None:
        with self._lock:
            key = _key(db, number)
            self._drop(key)
            while self._kept and self._taken + takes > self.room:
                # Any one: a page that goes through more than there is room for would push out each just before it is
                # asked for again, if it were the oldest.
                self._drop(random.choice(list(self._kept)))
            self._kept[key] = (mark, found, takes)
            self._taken += takes

    def forget(self) -> None:
        """As a process that has just begun."""
        with self._lock:
            self._kept.clear()
            self._taken = 0

    def _drop(self, key: _Key) -> None:
        if key in self._kept:
            self._taken -= self._kept.pop(key)[2]


def _key(db: sqlite3.Connection, number: int) -> _Key:
    return str(db.execute("PRAGMA database_list").fetchone()["file"]), number
