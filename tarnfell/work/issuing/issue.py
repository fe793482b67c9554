"""A report issued: numbered and frozen, so that what a customer signed stays what it was.

It is asked for, and the clerk issues it: the calls of a quarter take seconds to write down. What it says is what it
said when it was asked for, or it is not issued. The page, its figures, the calls they rest on and, once the clerk has
made it, the PDF are files that nothing touches again. The digest of the figures stands on the page; each file is known
by its own.
"""

from __future__ import annotations

import hashlib
import json
import logging
import sqlite3
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from tarnfell import __version__
from tarnfell.report.build import Issue
from tarnfell.report.data import report_data
from tarnfell.report.render import pdf_of, render_html
from tarnfell.store import issued as issued_store
from tarnfell.store import people, tasks
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.files import ISSUED
from tarnfell.store.issued import Issued
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.work.issuing.dataset import data_set
from tarnfell.work.issuing.report import report_is_behind, report_mark, report_to_date
from tarnfell.work.making import NotMade

log = logging.getLogger(__name__)


ISSUE = "report issued"
"""As a task."""
BEHIND = "Evidence has come in that is still being judged. Issue the report once that is done."
CHANGED = "It changed while it waited for the clerk. Read it again, then issue it."


class NotYet(NotMade):
    """It cannot be issued now; the text says why."""


def ask_to_issue(db: sqlite3.Connection, site: Site, by: int | None) -> Task:
    """Have the clerk issue what the report says now; whoever asks twice before it is issued gets one. Raises NotYet."""
    if report_is_behind(db, site):
        raise NotYet(BEHIND)
    with writing(db):
        return tasks.ask(db, ISSUE, _mark(db, site), by, site_id=site.id)


def asked_to_issue(db: sqlite3.Connection, site_id: int) -> Task | None:
    """Where it was asked last for, and has not been issued."""
    task = tasks.newest(db, ISSUE, site_id)
    return task if task and task.state != "ready" else None


def issue_asked(db: sqlite3.Connection, data: Path, task: Task) -> None:
    """Issue what was asked for, and end the task with it. Raises NotYet, or OSError where there is no room."""
    _issue(db, data, site_store.site_by_id(db, task.site_id or 0), task.asked_by, task)


def issue(db: sqlite3.Connection, data: Path, site: Site, by: int | None) -> Issued:
    """What the records say now, whatever time it takes. Raises NotYet, or OSError where there is no room."""
    return _issue(db, data, site, by, None)


def _issue(db: sqlite3.Connection, data: Path, site: Site, by: int | None, task: Task | None) -> Issued:
    mark = task.mark if task else _mark(db, site)
    at_us = now_us()
    user = people.get_user(db, by) if by is not None else None
    calls = data_set(db, site)
    report = report_to_date(db, site)
    # Within one transaction, so that two who issue at the same moment get two numbers, that page and calls are of the
    # same evidence, and that a task that issued it is never done again.
    with writing(db):
        if _mark(db, site) != mark:
            raise NotYet(CHANGED)
        year = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone)).year
        number = issued_store.next_number(db, year)
        figures = figures_of(report_data(report), number)
        digest = hashlib.sha256(figures).hexdigest()
        page = render_html(report.issued(Issue(number, digest, user.name if user else ""))).encode()
        verdict = report.evaluation.verdict
        kept = issued_store.add(
            db, site.id, number, at_us, by, __version__, verdict.word, verdict.low, verdict.high,
            ISSUED.keep(data, [page]), ISSUED.keep(data, [figures]), ISSUED.keep(data, [calls]),
            verdict.provisional,
        )  # fmt: skip
        if task:
            tasks.finish(db, task, kept.page_sha256)
    log.info("report %s of %s issued", number, site.slug)
    return kept


def _mark(db: sqlite3.Connection, site: Site) -> str:
    """Of what the report says, and of the report before it: issuing the same again takes asking again."""
    before = issued_store.issued_of(db, site.id)
    return f"{report_mark(db, site)} after {before[0].number if before else 'none'}"


def figures_of(told: dict[str, object], number: str) -> bytes:
    """As they are kept: the same figures are the same bytes."""
    return json.dumps({**told, "number": number}, indent=1, ensure_ascii=False, sort_keys=True).encode()


def make_issued_pdf(db: sqlite3.Connection, data: Path, given_up: set[int]) -> bool:
    """Have the page of an issued report that has no PDF yet on paper. Whether there was one to try.

    One that cannot be made is logged, put into ``given_up`` and does not hold up the next. Raises OSError where there
    is no room for it.
    """
    one = issued_store.without_pdf(db, given_up)
    if one is None:
        return False
    try:
        page = ISSUED.read(data, one.page_sha256)
        if page is None:
            raise FileNotFoundError("its page is missing from the data folder")
        body = pdf_of(page.decode())
    except Exception:  # a library that draws may fail in any way
        log.exception("the PDF of report %s; it is tried again when the clerk begins anew", one.number)
        given_up.add(one.id)
        return True
    sha256 = ISSUED.keep(data, [body])
    with writing(db):
        issued_store.keep_pdf(db, one.id, sha256)
    log.info("report %s is on paper", one.number)
    return True
