"""Planned line fills begun when they are due: once each, by the rules of the moment, and never late without a word.

due ──► begun: a job of the probe
  ├── the probe is offline, or something else loads the line: tried again for ten minutes
  └── a rule, or nobody there by then ──► left out, with the reason
"""

from __future__ import annotations

import sqlite3
from datetime import timedelta
from zoneinfo import ZoneInfo

from tarnfell.core.schedule import Span, from_us, next_start, quiet_span, to_us
from tarnfell.store import fill_plans as plan_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.fill_plans import FillPlanned
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fields import plain
from tarnfell.work.placing.metered import within_allowance
from tarnfell.work.placing.rules import PASSES, against_filling, quiet_hours

GRACE_US = 10 * 60 * 1_000_000
"""As with series of calls: how late a fill may begin."""
NOT_RUNNING = "The server was not running at that time."
QUIET = "It fell into hours without load."


def begin_fills(db: sqlite3.Connection, at_us: int) -> None:
    """What is due by ``at_us``."""
    if not plan_store.due(db, at_us):
        return
    with writing(db):
        # Read again: another turn may have begun them a moment ago.
        for plan in plan_store.due(db, at_us):
            _begin(db, plan, at_us)


def _begin(db: sqlite3.Connection, plan: FillPlanned, at_us: int) -> None:
    assert plan.next_us is not None
    site, due = site_store.site_by_id(db, plan.site_id), from_us(plan.next_us)
    late = at_us - plan.next_us > GRACE_US
    span = Span(due, due + timedelta(seconds=plan.asked.plan.length_s))
    if plan.rule and quiet_span(span, quiet_hours(site), ZoneInfo(site.time_zone)):
        return _over(db, site, plan, at_us, None, QUIET)
    probe = probe_store.probe_by_id(db, plan.probe_id)
    far_end = place_store.far_end_by_id(db, plan.asked.far_end_id)
    reason = against_filling(db, site, probe, far_end, plan.asked.plan, from_us(at_us))
    if reason is None and not late:
        asked = within_allowance(db, site, plan.asked, from_us(at_us))
        job = job_store.ask(db, site.id, plan.probe_id, "fill", plan.made_by, plain(asked))
        return _over(db, site, plan, at_us, job, "")
    if reason is not None and reason.code in PASSES and not late:
        return None
    return _over(db, site, plan, at_us, None, reason.afterwards if reason else NOT_RUNNING)


def _over(db: sqlite3.Connection, site: Site, plan: FillPlanned, at_us: int, job: int | None, words: str) -> None:
    """This start is done with; the next is the first that is not over yet."""
    assert plan.next_us is not None
    after = from_us(max(plan.next_us, at_us - GRACE_US))
    following = next_start(from_us(plan.start_us), plan.rule, ZoneInfo(site.time_zone), after) if plan.rule else None
    plan_store.keep_start(db, plan.id, plan.next_us, to_us(following) if following else None, job, words)
