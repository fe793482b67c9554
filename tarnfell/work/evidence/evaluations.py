"""The evaluation of a site: what its evidence says, with what the consultant decided of it."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.core.verdict.decisions import Dismissed, decided
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tarnfell.store import decisions as decision_store
from tarnfell.store.sites import Site
from tarnfell.work.evidence.computed import Computed
from tarnfell.work.evidence.facts import facts_of


@dataclass(frozen=True)
class Evaluated:
    """An evaluation; ``behind`` where evidence or the brief has changed since and the clerk has yet to follow."""

    evaluation: Evaluation
    """Without the causes that were dismissed."""
    behind: bool
    dismissed: tuple[Dismissed, ...]


def evaluate_now(db: sqlite3.Connection, site: Site) -> Evaluation:
    """Whatever time it takes."""
    facts = facts_of(db, site)
    return evaluate_site(facts.calls, site.brief, facts.video, facts.aside, facts.fills, facts.told, facts.watches)


EVALUATIONS = Computed("evaluation", Evaluation, evaluate_now, lambda site: evaluate_site([], site.brief))


def evaluate(db: sqlite3.Connection, site: Site) -> Evaluated:
    """As the evidence and the brief are now, or as they lately were."""
    evaluation, behind = EVALUATIONS.lately(db, site)
    return _as_decided(db, site, evaluation, behind)


def evaluate_to_date(db: sqlite3.Connection, site: Site) -> Evaluated:
    """As the evidence and the brief are now, whatever time it takes."""
    return _as_decided(db, site, EVALUATIONS.now(db, site), behind=False)


def _as_decided(db: sqlite3.Connection, site: Site, evaluation: Evaluation, behind: bool) -> Evaluated:
    told = decided(evaluation, decision_store.decisions_of(db, site.id))
    return Evaluated(told.evaluation, behind, told.dismissed)
