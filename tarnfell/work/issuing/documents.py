"""Documents made by the clerk, one after the other, of what the records say when it comes to each."""

from __future__ import annotations

import logging
import sqlite3
from pathlib import Path

from tarnfell.report.evidence import evidence_pdf
from tarnfell.report.render import render_pdf
from tarnfell.store import sites as site_store
from tarnfell.store import tasks
from tarnfell.store.db import writing
from tarnfell.store.files import MADE
from tarnfell.store.sites import Site
from tarnfell.store.tasks import MAX_TRIES, Task
from tarnfell.work.evidence.evaluations import as_decided, keep_evaluated
from tarnfell.work.issuing.evidence import Fault, evidence_of, fault_mark, fault_of_mark
from tarnfell.work.issuing.report import report_mark, report_of

REPORT_PDF = "report as PDF"
EVIDENCE_PDF = "evidence of "
"""And which fault's: sheets of several are documents beside each other."""
NOT_MADE = "It could not be made; the server's log says why. Ask for it again once that is mended."

log = logging.getLogger(__name__)


def ask_for_report(db: sqlite3.Connection, data: Path, site: Site, by: int | None) -> Task:
    """One that is ready already, if nothing has changed since it was made."""
    mark = report_mark(db, site)
    task = tasks.ask(db, REPORT_PDF, site.id, mark, by)
    if task.sha256 and not MADE.place(data, task.sha256).exists():
        tasks.fail(db, task, "Its file is gone.")
        task = tasks.ask(db, REPORT_PDF, site.id, mark, by)
    return task


def ask_for_evidence(db: sqlite3.Connection, site: Site, fault: Fault, by: int | None) -> Task:
    """Raises NoSuchFault."""
    kind = f"{EVIDENCE_PDF}{fault.probe_id}, {fault.number}"
    return tasks.ask(db, kind, site.id, fault_mark(db, fault), by)


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
        _fail(db, task)
        return True
    site = site_store.site_by_id(db, task.site_id)
    try:
        body = _evidence_pdf(db, task) if task.kind.startswith(EVIDENCE_PDF) else _report_pdf(db, site)
        sha256 = MADE.keep(data, [body])
    except (OSError, sqlite3.Error):
        with writing(db):
            tasks.put_off(db, task)
        raise
    except Exception:  # a library that draws may fail in any way, and the next document must not wait for it
        log.exception("%s of %s", task.kind, site.slug)
        _fail(db, task)
        return True
    with writing(db):
        unnamed = tasks.finish(db, task, sha256)
    for name in unnamed:
        MADE.drop(data, name)
    log.info("%s of %s made, %d bytes", task.kind, site.slug, len(body))
    return True


def _report_pdf(db: sqlite3.Connection, site: Site) -> bytes:
    return render_pdf(report_of(db, site, as_decided(db, site, keep_evaluated(db, site))))


def _evidence_pdf(db: sqlite3.Connection, task: Task) -> bytes:
    return evidence_pdf(evidence_of(db, fault_of_mark(task.mark)))


def _fail(db: sqlite3.Connection, task: Task) -> None:
    with writing(db):
        tasks.fail(db, task, NOT_MADE)
