"""Documents made by the clerk, one after the other, of what the records say when it comes to each."""

from __future__ import annotations

import logging
import sqlite3
from collections.abc import Callable, Iterable
from pathlib import Path

from tarnfell import __version__
from tarnfell.report.engagement import engagement_html
from tarnfell.report.evidence import evidence_pdf
from tarnfell.report.render import pdf_of, render_pdf
from tarnfell.store import engagements as engagement_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import tasks
from tarnfell.store.db import writing
from tarnfell.store.engagements import Engagement
from tarnfell.store.files import ISSUED, MADE, Shelf
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.store.tasks import MAX_TRIES, Task
from tarnfell.work.evidence.evaluations import evaluate_to_date
from tarnfell.work.issuing.dataset import data_set, data_set_mark
from tarnfell.work.issuing.engagement import engagement_mark, report_of_engagement
from tarnfell.work.issuing.evidence import Fault, evidence_of, fault_mark, fault_of_mark
from tarnfell.work.issuing.issue import ISSUE, NotYet, issue_asked
from tarnfell.work.issuing.report import report_mark, report_to_date
from tarnfell.work.issuing.run_capture import capture_of

REPORT_PDF = "report as PDF"
CALLS_CSV = "calls as CSV"
ENGAGEMENT_PDF = "report of all sites as PDF"
CAPTURE = "packets of a run"
EVIDENCE_PDF = "evidence of "
"""And which fault's: sheets of several are documents beside each other."""
NOT_MADE = "It could not be made; the server's log says why. Ask for it again once that is mended."

log = logging.getLogger(__name__)


def ask_for_report(db: sqlite3.Connection, data: Path, site: Site, by: int | None) -> Task:
    """One that is ready already, if nothing has changed since it was made."""
    return _asked(db, data, lambda: tasks.ask(db, REPORT_PDF, report_mark(db, site), by, site_id=site.id))


def ask_for_calls(db: sqlite3.Connection, data: Path, site: Site, by: int | None) -> Task:
    """As ``ask_for_report``, of the calls that it rests on: the table of a quarter takes seconds."""
    return _asked(db, data, lambda: tasks.ask(db, CALLS_CSV, data_set_mark(db, site), by, site_id=site.id))


def ask_for_engagement(db: sqlite3.Connection, data: Path, engagement: Engagement, by: int | None) -> Task:
    """As ``ask_for_report``, of all its sites on one page."""
    mark = engagement_mark(db, engagement)
    return _asked(db, data, lambda: tasks.ask(db, ENGAGEMENT_PDF, mark, by, engagement_id=engagement.id))


def _asked(db: sqlite3.Connection, data: Path, ask: Callable[[], Task]) -> Task:
    task = ask()
    if task.sha256 and not MADE.place(data, task.sha256).exists():
        tasks.fail(db, task, "Its file is gone.")
        task = ask()
    return task


def ask_for_evidence(db: sqlite3.Connection, site: Site, fault: Fault, by: int | None) -> Task:
    """Raises NoSuchFault."""
    kind = f"{EVIDENCE_PDF}{fault.probe_id}, {fault.number}"
    return tasks.ask(db, kind, fault_mark(db, fault), by, site_id=site.id)


def ask_for_capture(db: sqlite3.Connection, data: Path, run: Run, by: int | None) -> Task:
    """The packets of a run. Of each site the one asked for last is kept: they are large."""
    return _asked(db, data, lambda: tasks.ask(db, CAPTURE, f"{run.id} {__version__}", by, site_id=run.site_id))


def make_next(db: sqlite3.Connection, data: Path) -> bool:
    """Make the document that has waited longest. Whether there was one.

    Raises what goes wrong with this machine and not with the document, which is put off for a while.
    """
    task = tasks.next_task(db)
    if task is None:
        return False
    with writing(db):
        tasks.note_try(db, task)
    if task.tries >= MAX_TRIES:
        _fail(db, task, NOT_MADE)
        return True
    try:
        _make(db, data, task)
    except (OSError, sqlite3.Error):
        with writing(db):
            tasks.put_off(db, task)
        raise
    except NotYet as error:
        _fail(db, task, str(error))
    except Exception:  # a library that draws may fail in any way, and the next document must not wait for it
        log.exception("%s of %s", task.kind, name_of(db, task))
        _fail(db, task, NOT_MADE)
    return True


def _make(db: sqlite3.Connection, data: Path, task: Task) -> None:
    if task.kind == ISSUE:
        issue_asked(db, data, task)
        return
    sha256 = MADE.keep(data, _made(db, task))
    with writing(db):
        unnamed = tasks.finish(db, task, sha256)
    for one in unnamed:
        MADE.drop(data, one)
    log.info("%s of %s made, %d bytes", task.kind, name_of(db, task), MADE.place(data, sha256).stat().st_size)


def shelf_of(task: Task) -> Shelf:
    """Where its file lies."""
    return ISSUED if task.kind == ISSUE else MADE


def file_name(db: sqlite3.Connection, task: Task) -> str:
    """That it is saved under."""
    if task.kind == ISSUE:
        return f"{name_of(db, task)}-issued.html"
    if task.kind == CAPTURE:
        return f"run{_run_of(task)}.pcap"
    if task.kind == CALLS_CSV:
        return f"{name_of(db, task)}-calls.csv"
    return f"{name_of(db, task)}-{'evidence' if task.kind.startswith(EVIDENCE_PDF) else 'readiness'}.pdf"


def name_of(db: sqlite3.Connection, task: Task) -> str:
    """The short name of the site or the engagement that it is of."""
    if task.site_id is not None:
        return site_store.site_by_id(db, task.site_id).slug
    return engagement_store.engagement_by_id(db, task.engagement_id or 0).slug


def _made(db: sqlite3.Connection, task: Task) -> Iterable[bytes]:
    if task.kind == CAPTURE:
        return capture_of(db, run_store.run_by_id(db, _run_of(task)))
    return [_body(db, task)]


def _run_of(task: Task) -> int:
    return int(task.mark.split()[0])


def _body(db: sqlite3.Connection, task: Task) -> bytes:
    if task.engagement_id is not None:
        return _engagement_pdf(db, engagement_store.engagement_by_id(db, task.engagement_id))
    if task.kind.startswith(EVIDENCE_PDF):
        return evidence_pdf(evidence_of(db, fault_of_mark(task.mark)))
    site = site_store.site_by_id(db, task.site_id or 0)
    return data_set(db, site) if task.kind == CALLS_CSV else _report_pdf(db, site)


def _engagement_pdf(db: sqlite3.Connection, engagement: Engagement) -> bytes:
    for site in site_store.sites_of(db, engagement.id):
        evaluate_to_date(db, site)  # so that no line is as it was before
    return pdf_of(engagement_html(report_of_engagement(db, engagement)))


def _report_pdf(db: sqlite3.Connection, site: Site) -> bytes:
    return render_pdf(report_to_date(db, site))


def _fail(db: sqlite3.Connection, task: Task, reason: str) -> None:
    with writing(db):
        tasks.fail(db, task, reason)
