"""Answers that may take too long for a request: asked for, made by the clerk, and kept for a while.

One that does not take long is given where it is asked for. The clerk makes the others, whoever asked last first: a
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
from typing import Any, Generic, TypeVar

from pydantic import TypeAdapter, ValidationError

from tarnfell import __version__
from tarnfell.store import tasks
from tarnfell.store.db import folder_of, now_us, writing
from tarnfell.store.files import MADE
from tarnfell.store.tasks import Task
from tarnfell.work.making import CHANGED, NotMade

MOST_KEPT = 12
"""Of a kind and a site, or an engagement: what somebody goes back and forth between."""
ANEW_US = 60 * 1_000_000
"""What could not be made is tried again for whoever asks so long after it."""

log = logging.getLogger(__name__)

T = TypeVar("T")


class Question(ABC, Generic[T]):
    """Something to be worked out, and how."""

    choice: Any
    """A dataclass that JSON can hold."""

    @property
    @abstractmethod
    def number(self) -> int:
        """The id of what it is about."""

    @property
    @abstractmethod
    def owner(self) -> dict[str, int]:
        """``site_id`` or ``engagement_id``."""

    @property
    @abstractmethod
    def depends_on(self) -> object:
        """What else the answer follows from; its ``repr`` tells it apart."""

    @property
    @abstractmethod
    def is_long(self) -> bool:
        """Whether it may take over about 50 ms."""

    @abstractmethod
    def answer(self) -> T:
        """Whatever time it takes."""


@dataclass(frozen=True)
class Answers(Generic[T]):
    """One kind of them: the form of an answer, what can be chosen, and how its question is found again."""

    kind: str
    """Of its tasks."""
    form: type[T]
    choice: type[Any]
    find: Callable[[sqlite3.Connection, int, Any], Question[T]]

    @cached_property
    def text(self) -> TypeAdapter[T]:
        return TypeAdapter(self.form)

    def lately(self, db: sqlite3.Connection, question: Question[T], by: int | None) -> T | Task:
        """The answer; of a long one that which is kept, or how far the clerk is with it."""
        if not question.is_long:
            return question.answer()
        owner, mark = question.owner, _mark(question)
        task = tasks.newest_of(db, self.kind, mark, **owner)
        if task and task.state == "failed" and now_us() - (task.ended_us or 0) < ANEW_US:
            return task
        if task and task.state == "ready":
            found = self._read(folder_of(db), task)
            if found is not None:
                return found
            with writing(db):
                tasks.fail(db, task, "Its file is gone.")
        elif task and task.state != "failed":
            return task
        with writing(db):
            tasks.forget_waiting(db, self.kind, f"{question.number} ", by, **owner)
            return tasks.ask(db, self.kind, mark, by, **owner)

    def now(self, db: sqlite3.Connection, task: Task) -> bytes:
        """What a task asks for, as a file; whatever time it takes. Raises NotMade where it would be another by now."""
        number, rest = task.mark.split(" ", 1)
        question = self.find(db, int(number), self.choice(**json.loads(rest.rsplit(" ", 1)[0])))
        if _mark(question) != task.mark:
            raise NotMade(CHANGED)
        return self.text.dump_json(question.answer())

    def _read(self, data: Path, task: Task) -> T | None:
        body = MADE.read(data, task.sha256 or "")
        if body is None:
            return None
        try:
            return self.text.validate_json(body)
        except ValidationError:
            log.warning("the kept %s %s is of another form; the clerk makes it anew", self.kind, task.mark)
            return None


def _mark(question: Question[Any]) -> str:
    """Differs whenever the answer would."""
    chosen = json.dumps(asdict(question.choice), separators=(",", ":"), sort_keys=True)
    digest = hashlib.sha256(repr((__version__, question.depends_on)).encode()).hexdigest()
    return f"{question.number} {chosen} {digest}"
