"""Documents that were asked for: how far the clerk is with each, and its file."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, current_app, g, send_file

from tarnfell.server.access import require_task
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.report.models.documents import DocumentView, Waiting
from tarnfell.store.db import folder_of
from tarnfell.store.lock import is_held
from tarnfell.store.tasks import Task
from tarnfell.work.issuing.documents import file_name, shelf_of

blueprint = Blueprint("documents", __name__)

MIMETYPES = {
    ".pdf": "application/pdf",
    ".csv": "text/csv",
    ".html": "text/html",
    ".pcap": "application/vnd.tcpdump.pcap",
}
WORDS = {
    "waiting": "Waiting for its turn.",
    "being made": "Being made.",
    "ready": "Ready.",
}
NO_CLERK = "The server's clerk is not at work, so it is not made yet. Whoever runs the server can start it."


@endpoint(blueprint, "GET", "/api/documents/<int:task_id>", response=DocumentView)
def show_document(task_id: int) -> DocumentView:
    """How far a document is."""
    return document_view(require_task(task_id))


@endpoint(blueprint, "GET", "/api/documents/<int:task_id>/file", produces="*/*")
def document_file(task_id: int) -> Response:
    """The document: a PDF, a table as CSV, a capture, or the page of an issued report."""
    task = require_task(task_id)
    if task.sha256 is None:
        raise Problem(409, f"The document is not ready: {document_view(task).words}")
    name = file_name(g.db, task)
    try:
        file = shelf_of(task).place(folder_of(g.db), task.sha256).open("rb")
    except FileNotFoundError:
        raise Problem(410, "The document's file is missing from the server's data folder. Ask for it again.") from None
    return send_file(file, MIMETYPES[Path(name).suffix], as_attachment=True, download_name=name)


def document_view(task: Task) -> DocumentView:
    """How far it is."""
    held_up = task.state in ("waiting", "being made") and not is_held(current_app.config["DATA"], "clerk")
    return DocumentView(
        id=task.id,
        state=task.state,
        words=NO_CLERK if held_up else task.failure or WORDS[task.state],
        held_up=held_up,
        made_us=task.ended_us,
        bytes=_bytes(task),
    )


def waiting_view(task: Task) -> Waiting:
    """How far the clerk is with an answer."""
    told = document_view(task)
    return Waiting(words=told.words, held_up=told.held_up, given_up=told.state == "failed")


def _bytes(task: Task) -> int | None:
    if task.sha256 is None:
        return None
    try:
        return shelf_of(task).place(folder_of(g.db), task.sha256).stat().st_size
    except FileNotFoundError:
        return None
