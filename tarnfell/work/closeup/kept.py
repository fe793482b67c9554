"""A close-up that takes too long for a request: asked for, made by the clerk, and kept for a while.

Of few packets it is computed where it is asked for. Of many the clerk computes it, whoever asked for last first: a
person who moves a slider on does not want what it passed.
"""

from __future__ import annotations

import hashlib
import json
import logging
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import TypeAdapter, ValidationError

from tarnfell import __version__
from tarnfell.store import tasks
from tarnfell.store.db import folder_of, now_us, writing
from tarnfell.store.files import MADE
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.work.making import CHANGED, NotMade

MOST_KEPT = 12
"""Of calls or of streams of one site: the settings somebody goes back and forth between."""
ANEW_US = 60 * 1_000_000
"""What could not be made is tried again for whoever asks so long after it."""

log = logging.getLogger(__name__)

T = TypeVar("T")


class Look(ABC, Generic[T]):
    """Something to be judged packet by packet, and how."""

    site: Site
    choice: Any
    """A dataclass that JSON can hold."""
    at_once: ClassVar[int]
    """Packets that are judged within about 40 ms (benchmarks/closeups.py)."""

    @property
    @abstractmethod
    def number(self) -> int:
        """The id of what is looked at."""

    @property
    @abstractmethod
    def depends_on(self) -> object:
        """What else the outcome follows from, besides the packets; its ``repr`` tells it apart."""

    @property
    @abstractmethod
    def packets(self) -> int:
        """There are to judge, both ways."""

    @abstractmethod
    def close_up(self) -> T:
        """Whatever time it takes."""

    @property
    def is_long(self) -> bool:
        return self.packets > self.at_once


@dataclass(frozen=True)
class Subject(Generic[T]):
    """What can be looked at: its word, the form of its close-up, what can be chosen, and how it is found again."""

    word: str
    form: type[T]
    choice: type[Any]
    find: Callable[[sqlite3.Connection, int, Any], Look[T]]

    @property
    def kind(self) -> str:
        """Of its tasks."""
        return f"close-up of a {self.word}"

    @cached_property
    def text(self) -> TypeAdapter[T]:
        return TypeAdapter(self.form)

    def lately(self, db: sqlite3.Connection, look: Look[T], by: int | None) -> T | Task:
        """The close-up; of many packets the one that is kept, or how far the clerk is with it."""
        if not look.is_long:
            return look.close_up()
        data, mark = folder_of(db), _mark(look)
        task = tasks.newest_of(db, self.kind, look.site.id, mark)
        if task and task.state == "failed" and now_us() - (task.ended_us or 0) < ANEW_US:
            return task
        if task and task.state == "ready":
            found = self._read(data, task)
            if found is not None:
                return found
            with writing(db):
                tasks.fail(db, task, "Its file is gone.")
        elif task and task.state != "failed":
            return task
        with writing(db):
            tasks.forget_waiting(db, self.kind, look.site.id, f"{look.number} ", by)
            return tasks.ask(db, self.kind, mark, by, site_id=look.site.id)

    def now(self, db: sqlite3.Connection, task: Task) -> bytes:
        """What a task asks for, as a file; whatever time it takes. Raises NotMade where it would be another by now."""
        number, chosen, _ = task.mark.split(" ")
        look = self.find(db, int(number), self.choice(**json.loads(chosen)))
        if _mark(look) != task.mark:
            raise NotMade(CHANGED)
        return self.text.dump_json(look.close_up())

    def _read(self, data: Path, task: Task) -> T | None:
        body = MADE.read(data, task.sha256 or "")
        if body is None:
            return None
        try:
            return self.text.validate_json(body)
        except ValidationError:
            log.warning("the kept %s %s is of another form; the clerk makes it anew", self.kind, task.mark)
            return None


def _mark(look: Look[Any]) -> str:
    """Differs whenever the close-up would."""
    chosen = json.dumps(asdict(look.choice), separators=(",", ":"), sort_keys=True)
    digest = hashlib.sha256(repr((__version__, look.depends_on)).encode()).hexdigest()
    return f"{look.number} {chosen} {digest}"
