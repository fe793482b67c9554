"""What follows from all evidence of a site, computed once for each state of its evidence and its brief.

Little evidence is evaluated where it is asked for. Much takes longer than anybody should wait for, so the clerk
evaluates it and keeps the outcome; until it has, whoever asks is given the one before, and told that it is behind.
"""

from __future__ import annotations

import hashlib
import logging
import random
import sqlite3
import threading
from dataclasses import dataclass

from pydantic import TypeAdapter, ValidationError

from tarnfell import __version__
from tarnfell.core.verdict.decisions import Dismissed, decided
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tarnfell.store import decisions as decision_store
from tarnfell.store import evaluations
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.evaluations import Evidence, Kept
from tarnfell.store.sites import Site
from tarnfell.work.evidence.facts import facts_of

CALLS_AT_ONCE = 400
"""Evaluated within about 50 ms (benchmarks/pages.py)."""

log = logging.getLogger(__name__)

_FORM = TypeAdapter(Evaluation)
_MAX_IN_MEMORY = 256
"""A week of a site takes 0.2 MB."""
_in_memory: dict[tuple[str, int], tuple[str, Evaluation]] = {}
_lock = threading.Lock()


@dataclass(frozen=True)
class Evaluated:
    """An evaluation; ``behind`` where evidence or the brief has changed since and the clerk has yet to follow."""

    evaluation: Evaluation
    """Without the causes that were dismissed."""
    behind: bool
    dismissed: tuple[Dismissed, ...]


def evaluate(db: sqlite3.Connection, site: Site) -> Evaluated:
    """As the evidence and the brief are now, or as they lately were. Computes for long only where nothing is kept."""
    evidence = evaluations.evidence_of(db, site.id)
    mark = mark_of(site, evidence)
    known = _known(db, site.id, mark)
    if known is None and evidence.calls > CALLS_AT_ONCE:
        known = _fetched(db, site.id)
    if known is None:
        known = mark, evaluate_now(db, site)
        _remember(db, site.id, *known)
    return as_decided(db, site, known[1], behind=known[0] != mark)


def as_decided(db: sqlite3.Connection, site: Site, evaluation: Evaluation, behind: bool = False) -> Evaluated:
    """With what the consultant decided of its causes."""
    told = decided(evaluation, decision_store.decisions_of(db, site.id))
    return Evaluated(told.evaluation, behind, told.dismissed)


def evaluate_now(db: sqlite3.Connection, site: Site) -> Evaluation:
    """Whatever time it takes."""
    facts = facts_of(db, site)
    return evaluate_site(facts.calls, site.brief, facts.video, facts.aside, facts.fills, facts.told, facts.watches)


def keep_evaluated(db: sqlite3.Connection, site: Site) -> Evaluation:
    """As the evidence and the brief are now, for the clerk; what took long is kept for others."""
    evidence = evaluations.evidence_of(db, site.id)
    # What changes while it is evaluated makes this mark an old one, and the site is evaluated again.
    mark = mark_of(site, evidence)
    known = _known(db, site.id, mark)
    if known:
        return known[1]
    evaluation = evaluate_now(db, site)
    if evidence.calls > CALLS_AT_ONCE:
        with writing(db):
            evaluations.keep(db, site.id, Kept(mark, _FORM.dump_json(evaluation)))
    return evaluation


def evaluate_next(db: sqlite3.Connection) -> bool:
    """Evaluate a site with much evidence whose kept evaluation is behind. Whether there was one."""
    for evidence in evaluations.much_evidence(db, CALLS_AT_ONCE):
        site = site_store.site_by_id(db, evidence.site_id)
        if evaluations.kept_mark(db, site.id) != mark_of(site, evidence):
            keep_evaluated(db, site)
            return True
    return False


def mark_of(site: Site, evidence: Evidence) -> str:
    """The same for the same evidence, brief and version of the method."""
    return hashlib.sha256(repr((__version__, site, evidence)).encode()).hexdigest()


def _known(db: sqlite3.Connection, site_id: int, mark: str) -> tuple[str, Evaluation] | None:
    """What this process or the store has of exactly this mark."""
    with _lock:
        remembered = _in_memory.get(_key(db, site_id))
    if remembered and remembered[0] == mark:
        return remembered
    return _fetched(db, site_id) if evaluations.kept_mark(db, site_id) == mark else None


def _fetched(db: sqlite3.Connection, site_id: int) -> tuple[str, Evaluation] | None:
    kept = evaluations.kept_of(db, site_id)
    if kept is None:
        return None
    with _lock:
        remembered = _in_memory.get(_key(db, site_id))
    if remembered and remembered[0] == kept.mark:
        return remembered
    try:
        evaluation = _FORM.validate_json(kept.body)
    except ValidationError:
        log.warning("the kept evaluation of site %s is of another version; it is computed anew", site_id)
        return None
    _remember(db, site_id, kept.mark, evaluation)
    return kept.mark, evaluation


def _remember(db: sqlite3.Connection, site_id: int, mark: str, evaluation: Evaluation) -> None:
    with _lock:
        key = _key(db, site_id)
        if key not in _in_memory and len(_in_memory) >= _MAX_IN_MEMORY:
            # Any one: a page that goes through more sites than there is room for would push out each just before it is
            # asked for again, if it were the oldest.
            del _in_memory[random.choice(list(_in_memory))]
        _in_memory[key] = (mark, evaluation)


def _key(db: sqlite3.Connection, site_id: int) -> tuple[str, int]:
    return str(db.execute("PRAGMA database_list").fetchone()["file"]), site_id
