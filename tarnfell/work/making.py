"""A task of the clerk's carried out: what may go wrong with it, and where its file goes."""

from __future__ import annotations

import logging
import sqlite3
from collections.abc import Callable, Iterable
from pathlib import Path

from tarnfell.store import tasks
from tarnfell.store.db import writing
from tarnfell.store.files import MADE
from tarnfell.store.tasks import MAX_TRIES, Task

FAILED = "It could not be made; the server's log says why. Ask for it again once that is mended."
CHANGED = "What it follows from has changed since it was asked for. Ask for it again."

log = logging.getLogger(__name__)


class NotMade(ValueError):
    """It cannot be made now; the text says why."""


def attempt(db: sqlite3.Connection, task: Task, make: Callable[[], None]) -> None:
    """Make what a task asks for; what cannot be made is told of the task, and the next is made all the same.

    Raises what goes wrong with this machine and not with the task, which is put off for a while.
    """
    with writing(db):
        tasks.note_try(db, task)
    if task.tries >= MAX_TRIES:
        _fail(db, task, FAILED)
        return
    try:
        make()
    except (OSError, sqlite3.Error):
        with writing(db):
            tasks.put_off(db, task)
        raise
    except NotMade as error:
        _fail(db, task, str(error))
    except Exception:  # a library that draws may fail in any way, and the next must not wait for it
        log.exception("%s of %s", task.kind, task.mark)
        _fail(db, task, FAILED)


def keep_file(db: sqlite3.Connection, data: Path, task: Task, body: Iterable[bytes], keep: int = 1) -> int:
    """Write a task's file and end the task with it; ``keep`` as of ``tasks.finish``. Bytes."""
    sha256 = MADE.keep(data, body)
    with writing(db):
        unnamed = tasks.finish(db, task, sha256, keep)
    for one in unnamed:
        MADE.drop(data, one)
    return MADE.place(data, sha256).stat().st_size


def _fail(db: sqlite3.Connection, task: Task, reason: str) -> None:
    with writing(db):
        tasks.fail(db, task, reason)
