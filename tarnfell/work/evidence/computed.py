"""What is computed from all evidence of a site, once for each state of its evidence and its brief.

Of little evidence it is computed where it is asked for. Of much that takes longer than anybody should wait for, so the
clerk computes it and keeps the outcome. Until it has, whoever asks is given the one before, or that of no evidence if
none was kept (the site was just moved here, or the form is another release's), and told that it is behind.
"""

from __future__ import annotations

import hashlib
import logging
import sqlite3
from collections.abc import Callable
from typing import Generic, TypeVar

from pydantic import TypeAdapter, ValidationError

from tarnfell import __version__
from tarnfell.store import evidence as evidence_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.evidence import Evidence, Kept
from tarnfell.store.sites import Site
from tarnfell.work.memory import Memory

CALLS_AT_ONCE = 400
"""Evaluated within about 50 ms (benchmarks/pages.py)."""
MAX_IN_MEMORY_KB = 50_000
"""Of each kind."""
MAX_READ = 100_000
"""Sites of which it is known whether what is kept can be read."""
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
        self.memory = Memory[T](MAX_IN_MEMORY_KB)
        self._read: Memory[None] = Memory(MAX_READ)

    def lately(self, db: sqlite3.Connection, site: Site) -> tuple[T, bool]:
        """As the evidence and the brief are now, or as they lately were; and whether it is behind them."""
        evidence = evidence_store.evidence_of(db, site.id)
        mark = self._mark(db, site, evidence)
        known = self._known(db, site.id, mark)
        if known is None and evidence.calls > CALLS_AT_ONCE:
            known = self._fetched(db, site.id) or ("", self._nothing(site))
        if known is None:
            known = mark, self.compute(db, site)
            self.memory.keep(db, site.id, *known, CALLS_KB if evidence.calls else NO_CALLS_KB)
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
            self._read.keep(db, site.id, mark, None, 1)  # once is enough, whatever came of it
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

    def forget(self) -> None:
        """As a process that has just begun."""
        self.memory.forget()
        self._read.forget()

    def _mark(self, db: sqlite3.Connection, site: Site, evidence: Evidence) -> str:
        return mark_of(site, evidence, *((self._beside(db, site),) if self._beside else ()))

    def _known(self, db: sqlite3.Connection, site_id: int, mark: str) -> tuple[str, T] | None:
        """What this process or the store has of exactly this mark."""
        remembered = self.memory.of(db, site_id)
        if remembered and remembered[0] == mark:
            return remembered
        return self._fetched(db, site_id) if evidence_store.kept_mark(db, site_id, self.what) == mark else None

    def _can_be_read(self, db: sqlite3.Connection, site_id: int, mark: str) -> bool:
        """What is kept; looked at once."""
        if self._read.of(db, site_id) != (mark, None):
            if self._fetched(db, site_id) is None:
                return False
            self._read.keep(db, site_id, mark, None, 1)
        return True

    def _fetched(self, db: sqlite3.Connection, site_id: int) -> tuple[str, T] | None:
        kept = evidence_store.kept_of(db, site_id, self.what)
        if kept is None:
            return None
        remembered = self.memory.of(db, site_id)
        if remembered and remembered[0] == kept.mark:
            return remembered
        try:
            found = self.form.validate_json(kept.body)
        except ValidationError:
            log.warning("the kept %s of site %s is of another version; the clerk computes it anew", self.what, site_id)
            return None
        self.memory.keep(db, site_id, kept.mark, found, CALLS_KB)
        return kept.mark, found


def mark_of(site: Site, evidence: Evidence, *beside: object) -> str:
    """The same for the same evidence, brief and version of the method."""
    return hashlib.sha256(repr((__version__, site, evidence, *beside)).encode()).hexdigest()
