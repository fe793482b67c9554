"""What the clerk does of a call or a video stream with more packets than are judged in a request."""

from __future__ import annotations

from typing import Any, TypeVar

from flask import Response, g

from tarnfell.server.http.api import Problem
from tarnfell.server.load.models.calls import Awaited
from tarnfell.server.report.documents import document_view, waiting_view
from tarnfell.server.report.models.documents import DocumentView
from tarnfell.store.db import folder_of, writing
from tarnfell.store.tasks import Task
from tarnfell.work.answers import Answers
from tarnfell.work.closeup.look import Look
from tarnfell.work.issuing.documents import ask_for_packets
from tarnfell.work.issuing.packets import NOTHING_SENT, Streamed, packets_csv

T = TypeVar("T")


def judged_lately(kind: Answers[T], look: Look[T]) -> T | Awaited:
    """Its close-up, or how far the clerk is with it."""
    found = kind.lately(g.db, look, g.user.id)
    return Awaited(packets=look.packets, **vars(waiting_view(found))) if isinstance(found, Task) else found


def judged_now(kind: Answers[T], look: Look[T]) -> T:
    """For what cannot wait for it."""
    found = judged_lately(kind, look)
    if isinstance(found, Awaited):
        raise Problem(409, f"Its {found.packets} packets are being judged. {found.words} Ask again then.")
    return found


def packets_response(look: Look[Any], one: Streamed, way: str, name: str) -> Response:
    """The packets of one direction as CSV."""
    if look.is_long:
        raise Problem(
            409,
            f"These are {look.packets} packets, too many to write down while you wait. Ask for them on its page: "
            "the clerk writes them down.",
        )
    parts = packets_csv(one, way)
    if parts is None:
        raise Problem(404, NOTHING_SENT)
    response = Response(parts, mimetype="text/csv")
    response.headers["Content-Disposition"] = f'attachment; filename="{name}-{way}.csv"'
    return response


def packets_asked(one: Streamed, way: str) -> DocumentView:
    """The packets of one direction, to be made into a table by the clerk."""
    with writing(g.db):
        return document_view(ask_for_packets(g.db, folder_of(g.db), one, way, g.user.id))
