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
from tarnfell.store.engagements import Engagement
from tarnfell.store.files import ISSUED, MADE, Shelf
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.work.answering import KINDS as ANSWERS
from tarnfell.work.evidence.evaluations import evaluate_to_date
from tarnfell.work.issuing.dataset import data_set, data_set_mark
from tarnfell.work.issuing.engagement import engagement_mark, report_of_engagement
from tarnfell.work.issuing.evidence import Fault, evidence_of, fault_mark, fault_of_mark
from tarnfell.work.issuing.issue import ISSUE, issue_asked
from tarnfell.work.issuing.packets import Streamed, packets_mark, packets_name, packets_table
from tarnfell.work.issuing.report import report_mark, report_to_date
from tarnfell.work.issuing.run_capture import capture_of
from tarnfell.work.making import attempt, keep_file

REPORT_PDF = "report as PDF"
CALLS_CSV = "calls as CSV"
ENGAGEMENT_PDF = "report of all sites as PDF"
CAPTURE = "packets of a run"
PACKETS_CSV = "packets as CSV"
EVIDENCE_PDF = "evidence of "
"""And which fault's: sheets of several are documents beside each other."""

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


def ask_for_packets(db: sqlite3.Connection, data: Path, one: Streamed, way: str, by: int | None) -> Task:
    """The packets of one direction of a call or a video stream. Of each site the one asked for last is kept."""
    site_id = run_store.run_by_id(db, one.run_id).site_id
    return _asked(db, data, lambda: tasks.ask(db, PACKETS_CSV, packets_mark(one, way), by, site_id=site_id))


def make_next(db: sqlite3.Connection, data: Path) -> bool:
    """Make the document that has waited longest. Whether there was one. Raises as ``making.attempt``."""
    task = tasks.next_task(db, but=ANSWERS)
    if task is None:
        return False
    attempt(db, task, lambda: _make(db, data, task))
    return True


def _make(db: sqlite3.Connection, data: Path, task: Task) -> None:
    if task.kind == ISSUE:
        issue_asked(db, data, task)
        return
    size = keep_file(db, data, task, _made(db, task))
    log.info("%s of %s made, %d bytes", task.kind, name_of(db, task), size)


def shelf_of(task: Task) -> Shelf:
    """Where its file lies."""
    return ISSUED if task.kind == ISSUE else MADE


def file_name(db: sqlite3.Connection, task: Task) -> str:
    """That it is saved under."""
    if task.kind == ISSUE:
        return f"{name_of(db, task)}-issued.html"
    if task.kind == CAPTURE:
        return f"run{_run_of(task)}.pcap"
    if task.kind == PACKETS_CSV:
        return packets_name(task.mark)
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
    if task.kind == PACKETS_CSV:
        return packets_table(db, task.mark)
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
