"""Connections that are used again: SQLite reads the whole schema for each new one, which takes longer than most of what
is asked by it."""

from __future__ import annotations

import sqlite3
import threading
from pathlib import Path

from tarnfell.store.db import connect, open_database

MOST_IDLE = 8


class Connections:
    """To the database of one folder, each used by one thread at a time.

    One is kept open and used by nobody: with the last connection SQLite takes its shared files away, and on a full disk
    it cannot make them again, so that nothing could even be read.
    """

    def __init__(self, folder: Path) -> None:
        """Raises SchemaError or OSError."""
        self._folder = folder
        self._kept_open = open_database(folder)
        self._idle: list[sqlite3.Connection] = []
        self._lock = threading.Lock()

    def take(self) -> sqlite3.Connection:
        with self._lock:
            if self._idle:
                return self._idle.pop()
        return connect(self._folder)

    def give_back(self, db: sqlite3.Connection) -> None:
        """What was begun on it and not committed is undone. The caller holds no cursor that is not read to its end:
        whoever has it next would be told what was true then."""
        try:
            if db.in_transaction:
                db.rollback()
            db.execute("PRAGMA shrink_memory")  # up to 32 MB of pages, which each of them would keep
        except sqlite3.Error:
            db.close()
            return
        with self._lock:
            if len(self._idle) < MOST_IDLE:
                self._idle.append(db)
                return
        db.close()
