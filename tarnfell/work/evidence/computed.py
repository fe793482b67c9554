"""What is computed from all evidence of a site, once for each state of its evidence and its brief.

Of little evidence it is computed where it is asked for. Of much that takes longer than anybody should wait for, so the
clerk computes it and keeps the outcome. Until it has, whoever asks is given the one before, or that of no evidence if
none was kept (the site was just moved here, or the form is another release's), and told that it is behind.
"""

from __future__ import annotations

import hashlib
import logging
import random
import sqlite3
import threading
from collections.abc import Callable
from typing import Generic, TypeVar

from pydantic import TypeAdapter, ValidationError

from tarnfell import __version__
from tarnfell.store import evidence as evidence_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.evidence import Evidence, Kept
from tarnfell.store.sites import Site

CALLS_AT_ONCE = 400
"""Evaluated within about 50 ms (benchmarks/pages.py)."""
MAX_IN_MEMORY_KB = 50_000
"""Of each kind."""
CALLS_KB, NO_CALLS_KB = 200, 10
"""What the evaluation of a site takes: with a day sheet of a week, and without any call."""

log = logging.getLogger(__name__)

T = TypeVar("T")


class Computed(Generic[T]):
    """One kind of outcome, by the ``what`` under which it is kept; ``form`` is a type that JSON can hold.

    ``nothing`` gives the outcome of no evidence; ``beside`` what it is made of that is no evidence, such as names.
    """

    def __init__(
        self,
        what: str,
        form: type[T],
        compute: Callable[[sqlite3.Connection, Site], T],
        nothing: Callable[[Site], T],
        beside: Callable[[sqlite3.Connection, Site], object] | None = None,
    ) -> None:
        self.what, self.form = what, TypeAdapter(form)
        self.compute, self._nothing, self._beside = compute, nothing, beside
        self._in_memory: dict[tuple[str, int], tuple[str, T, int]] = {}
        self._kb = 0
        """Of all that is in memory."""
        self._read: dict[tuple[str, int], str] = {}
        self._lock = threading.Lock()

    def lately(self, db: sqlite3.Connection, site: Site) -> tuple[T, bool]:
        """As the evidence and the brief are now, or as they lately were; and whether it is behind them."""
        evidence = evidence_store.evidence_of(db, site.id)
        mark = self._mark(db, site, evidence)
        known = self._known(db, site.id, mark)
        if known is None and evidence.calls > CALLS_AT_ONCE:
            known = self._fetched(db, site.id) or ("", self._nothing(site))
        if known is None:
            known = mark, self.compute(db, site)
            self.remember(db, site.id, *known, CALLS_KB if evidence.calls else NO_CALLS_KB)
        return known[1], known[0] != mark

    def now(self, db: sqlite3.Connection, site: Site) -> T:
        """As the evidence and the brief are now, for the clerk; what took long is kept for others."""
        evidence = evidence_store.evidence_of(db, site.id)
        # What changes while it is computed makes this mark an old one, and it is computed again.
        mark = self._mark(db, site, evidence)
        known = self._known(db, site.id, mark)
        if known:
            return known[1]
        found = self.compute(db, site)
        if evidence.calls > CALLS_AT_ONCE:
            with writing(db):
                evidence_store.keep(db, site.id, self.what, Kept(mark, self.form.dump_json(found)))
            self._read[_key(db, site.id)] = mark  # once is enough, whatever came of it
        return found

    def follow(self, db: sqlite3.Connection) -> bool:
        """Compute it for a site with much evidence of which what is kept is behind. Whether there was one."""
        for evidence in evidence_store.much_evidence(db, CALLS_AT_ONCE):
            site = site_store.site_by_id(db, evidence.site_id)
            mark = self._mark(db, site, evidence)
            if evidence_store.kept_mark(db, site.id, self.what) != mark or not self._can_be_read(db, site.id, mark):
                self.now(db, site)
                return True
        return False

    def mark(self, db: sqlite3.Connection, site: Site) -> str:
        """Differs whenever the outcome would."""
        return self._mark(db, site, evidence_store.evidence_of(db, site.id))

    def remember(self, db: sqlite3.Connection, site_id: int, mark: str, found: T, kb: int = CALLS_KB) -> None:
        """In this process."""
        with self._lock:
            key = _key(db, site_id)
            self._drop(key)
            while self._in_memory and self._kb + kb > MAX_IN_MEMORY_KB:
                # Any one: a page that goes through more sites than there is room for would push out each just before it
                # is asked for again, if it were the oldest.
                self._drop(random.choice(list(self._in_memory)))
            self._in_memory[key] = (mark, found, kb)
            self._kb += kb

    def _drop(self, key: tuple[str, int]) -> None:
        if key in self._in_memory:
            self._kb -= self._in_memory.pop(key)[2]

    def remembered(self, db: sqlite3.Connection, site_id: int) -> tuple[str, T] | None:
        with self._lock:
            known = self._in_memory.get(_key(db, site_id))
            return known[:2] if known else None

    def forget(self) -> None:
        """As a process that has just begun."""
        with self._lock:
            self._in_memory.clear()
            self._kb = 0
            self._read.clear()

    def _mark(self, db: sqlite3.Connection, site: Site, evidence: Evidence) -> str:
        return mark_of(site, evidence, *((self._beside(db, site),) if self._beside else ()))

    def _known(self, db: sqlite3.Connection, site_id: int, mark: str) -> tuple[str, T] | None:
        """What this process or the store has of exactly this mark."""
        remembered = self.remembered(db, site_id)
        if remembered and remembered[0] == mark:
            return remembered
        return self._fetched(db, site_id) if evidence_store.kept_mark(db, site_id, self.what) == mark else None

    def _can_be_read(self, db: sqlite3.Connection, site_id: int, mark: str) -> bool:
        """What is kept; looked at once."""
        key = _key(db, site_id)
        if self._read.get(key) != mark:
            if self._fetched(db, site_id) is None:
                return False
            self._read[key] = mark
        return True

    def _fetched(self, db: sqlite3.Connection, site_id: int) -> tuple[str, T] | None:
        kept = evidence_store.kept_of(db, site_id, self.what)
        if kept is None:
            return None
        remembered = self.remembered(db, site_id)
        if remembered and remembered[0] == kept.mark:
            return remembered
        try:
            found = self.form.validate_json(kept.body)
        except ValidationError:
            log.warning("the kept %s of site %s is of another version; the clerk computes it anew", self.what, site_id)
            return None
        self.remember(db, site_id, kept.mark, found)
        return kept.mark, found


def mark_of(site: Site, evidence: Evidence, *beside: object) -> str:
    """The same for the same evidence, brief and version of the method."""
    return hashlib.sha256(repr((__version__, site, evidence, *beside)).encode()).hexdigest()


def _key(db: sqlite3.Connection, site_id: int) -> tuple[str, int]:
    return str(db.execute("PRAGMA database_list").fetchone()["file"]), site_id
